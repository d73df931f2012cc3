/** One run: what became of it at each provider, where each copy landed, and what happened to it on the way. */
import {useState} from 'react';
import {Link, useNavigate, useParams} from 'react-router';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card, Small, Soft} from '../../design/Card';
import {Confirm} from '../../design/Confirm';
import {CopyButton} from '../../design/CopyButton';
import {DataTable} from '../../design/DataTable';
import {ago, plural} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Row, Stack} from '../../design/Stack';
import {colour, font} from '../../design/tokens';
import {Findings} from '../bench/Findings';
import {caution, InInbox, Landed, TITLES, told} from './Landed';
import {useCancelRun, useDeleteRun, useRun, useRunAssay} from './queries';
import {ShareCard} from './ShareCard';

type Copy = Schemas['PlacementCopy'];
const Mono = styled.code`
  font: 12px ${font.mono};
  overflow-wrap: anywhere;
  white-space: normal;
`;
const Facts = styled.dl`
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 4px 16px;
  margin: 0;
  dt {
    color: ${colour('soft')};
  }
  dd {
    margin: 0;
  }
`;
const STATES: Record<Schemas['PlacementRun']['state'], string> = {
  awaiting: 'awaits its message',
  running: 'running',
  done: 'done',
  cancelled: 'cancelled',
  failed: 'failed',
};
const HIDDEN = ['queued', 'sent'];

export function RunPage() {
  const {tenant = '', id = ''} = useParams();
  const run = useRun(tenant, Number(id));
  const cancel = useCancelRun(tenant);
  const remove = useDeleteRun(tenant);
  const leave = useNavigate();
  const [opened, setOpened] = useState('');
  if (run.isPending) return <Loading what="the run" />;
  if (run.error) return <Trouble error={run.error} again={() => void run.refetch()} />;
  const {state, subject, title, outlet, header_from, started_at, address, wait_minutes, providers, results} = run.data;
  const names = Object.fromEntries(providers.map((each) => [each.provider, each.label]));
  const open = results.filter((copy) => HIDDEN.includes(copy.outcome)).length;
  const shown = results.find((copy) => copy.address === opened);
  return (
    <Stack>
      <header>
        <h1 style={{margin: '0 0 4px'}}>
          <Link to={`/bench?tenant=${tenant}&view=placement`}>Placement</Link> / {title || subject || `run ${id}`}
        </h1>
        <Row style={{alignItems: 'baseline'}}>
          <b role="status">
            {STATES[state]}
            {state === 'running' && `: ${plural(results.length - open, 'result')} of ${results.length}`}
          </b>
          <Soft>
            {header_from && `${header_from}, `}outlet {outlet}, run {id}
          </Soft>
          {started_at && (
            <Small>
              started {ago(started_at)}, waits {plural(wait_minutes, 'minute')}
            </Small>
          )}
          {run.data.schedule && (
            <Small>
              schedule {run.data.schedule}, {run.data.why}
            </Small>
          )}
          {(state === 'running' || state === 'awaiting') && (
            <Button changes needs="operator" isDisabled={cancel.isPending} onPress={() => cancel.mutate(Number(id))}>
              Cancel run
            </Button>
          )}
          <Confirm
            label="Delete"
            title={`Delete run ${id}?`}
            action="Delete"
            needs="operator"
            onConfirm={() =>
              remove.mutate(Number(id), {onSuccess: () => void leave(`/bench?tenant=${tenant}&view=placement`)})
            }
          >
            Its message and its results go with it.
          </Confirm>
        </Row>
      </header>
      {(cancel.error ?? remove.error) && <Trouble error={cancel.error ?? remove.error} />}
      {state === 'awaiting' && (
        <Notice title="This run awaits its message">
          {address ? (
            <>
              Mail it to <Mono>{address}</Mono> <CopyButton value={address}>Copy</CopyButton> from any program and any
              address. Copies are sent as soon as it arrives.
            </>
          ) : (
            'Hand it in by the API: this installation has no address for mail from outside.'
          )}
        </Notice>
      )}
      <Card title="Mailbox providers" note="copies whose fate is known; a seed that could not be read is in no share">
        <DataTable
          label="Mailbox providers"
          file={`placement-${id}-providers.csv`}
          rows={providers}
          id={(row) => row.provider}
          columns={[
            {name: 'Provider', value: (row) => row.label},
            {name: 'Landed', value: (row) => told(row.copies), show: (row) => <Landed copies={row.copies} />},
            {
              name: 'Inbox',
              value: (row) => row.inbox?.value ?? null,
              show: (row) => <InInbox rate={row.inbox} />,
            },
            {name: 'Spam', value: (row) => row.copies.spam ?? 0, number: true},
            {
              name: 'Missing or refused',
              value: (row) => (row.copies.missing ?? 0) + (row.copies.refused ?? 0),
              number: true,
            },
            {name: '', value: (row) => caution(row.inbox), show: (row) => <Small>{caution(row.inbox)}</Small>},
          ]}
        />
      </Card>
      <Card title="Copies" note="select one to see its route, its authentication and what was changed">
        <DataTable
          label="Copies"
          file={`placement-${id}-copies.csv`}
          rows={results}
          id={(row) => row.address}
          columns={[
            {
              name: 'Seed',
              value: (row) => row.address,
              show: (row) => (
                <Button tone="link" needs="viewer" onPress={() => setOpened(row.address === opened ? '' : row.address)}>
                  {row.address}
                </Button>
              ),
            },
            {name: 'Provider', value: (row) => names[row.provider] ?? row.provider},
            {name: 'Landed', value: (row) => landed(row), show: (row) => <Where copy={row} />},
            {
              name: 'After, s',
              value: (row) => (row.seconds == null ? null : Math.round(row.seconds)),
              number: true,
            },
            {name: 'Authentication there', value: (row) => checked(row), show: (row) => <Mono>{checked(row)}</Mono>},
            {name: 'Changed', value: (row) => row.changes.map((each) => each.where).join(', ')},
            {
              name: 'Reply or problem',
              value: (row) => row.problem || row.reply,
              show: (row) => <Mono style={{display: 'block', minWidth: '28ch'}}>{row.problem || row.reply}</Mono>,
            },
          ]}
        />
      </Card>
      {shown && <Details copy={shown} />}
      {state !== 'awaiting' && <Message tenant={tenant} id={Number(id)} mark={run.data.mark} />}
      {state !== 'awaiting' && <ShareCard tenant={tenant} id={Number(id)} />}
    </Stack>
  );
}

function Message({tenant, id, mark}: {tenant: string; id: number; mark: number | null}) {
  const assay = useRunAssay(tenant, id, mark !== null);
  return (
    <Card title="Assay of the message" note={mark === null ? undefined : `mark ${mark} of 100, as the seeds get it`}>
      {mark === null && <Soft>Not examined: a run is examined within a minute of its start.</Soft>}
      {assay.isFetching && !assay.data && <Loading what="the assay" />}
      {assay.error && <Trouble error={assay.error} />}
      {assay.data && (assay.data.findings.length ? <Findings assay={assay.data} /> : <Soft>No findings.</Soft>)}
    </Card>
  );
}

const landed = (copy: Copy): string => copy.label || TITLES[copy.outcome];
const checked = (copy: Copy): string => copy.verified.map((each) => `${each.method}=${each.result}`).join(' ');

const Where = ({copy}: {copy: Copy}) => (
  <span style={{whiteSpace: 'nowrap'}}>
    <Landed copies={{[copy.outcome]: 1}} width={12} /> {landed(copy)}
    {copy.folder && copy.folder !== 'INBOX' && <Small> ({copy.folder})</Small>}
  </span>
);

const Details = ({copy}: {copy: Copy}) => (
  <Card title={copy.address} note={landed(copy)}>
    <Facts>
      <dt>Way</dt>
      <dd>
        {copy.hops.length === 0 && <Soft>not known</Soft>}
        {copy.hops.map((hop, number) => (
          <div key={number}>
            <Mono>
              {hop.from_host || '?'} → {hop.by_host} {hop.protocol}
            </Mono>
            {hop.seconds != null && <Small> after {hop.seconds} s</Small>}
          </div>
        ))}
      </dd>
      <dt>Recorded there</dt>
      <dd>
        {copy.verified.length === 0 && <Soft>no Authentication-Results of the provider</Soft>}
        {copy.verified.map((each, number) => (
          <div key={number}>
            <Mono>
              {each.method}={each.result} {each.properties}
            </Mono>
          </div>
        ))}
      </dd>
      <dt>Changed on the way</dt>
      <dd>
        {copy.changes.length === 0 && <Soft>{copy.hops.length ? 'nothing' : 'not known'}</Soft>}
        {copy.changes.map((each, number) => (
          <div key={number}>
            {each.where}: <Mono>{each.before || '(nothing)'}</Mono> became <Mono>{each.after || '(nothing)'}</Mono>
          </div>
        ))}
      </dd>
      {copy.reply && (
        <>
          <dt>Reply of the outlet</dt>
          <dd>
            <Mono>{copy.reply}</Mono>
          </dd>
        </>
      )}
    </Facts>
  </Card>
);
