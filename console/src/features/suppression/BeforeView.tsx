/** Before a send: may I mail these, what is wrong with an address, and a whole list with its clean half to take away. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useAddressChecks, useClearance, useSendList} from './queries';
import {useVerifiers, useVerify} from '../verification/queries';
import {useFlowNames} from '../mailflow/queries';
import {useRunJob, useJob, useJobs} from '../jobs/queries';
import {Button} from '../../design/Button';
import {FilePicker} from '../../design/FilePicker';
import {Card, Small, Tag} from '../../design/Card';
import {CheckField} from '../../design/CheckField';
import {Choice} from '../../design/Choice';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {ago, count, percent, words} from '../../design/format';
import {Notice, Trouble} from '../../design/Notice';
import {font, space} from '../../design/tokens';
import {JobState} from './JobState';

const Grid = styled.div`
  display: grid;
  grid-template-columns: repeat(2, minmax(0, 1fr));
  gap: ${space.m};
  align-items: start;
  > :first-child {
    grid-column: 1 / -1;
  }
  @media (max-width: 900px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;
const Mono = styled.span`
  font: 12px ${font.mono};
  overflow-wrap: anywhere;
  white-space: normal;
`;
const Wrap = styled.span`
  white-space: normal;
  font-size: 12px;
  display: block;
  min-width: 22ch;
`;
const Form = styled.form`
  display: grid;
  gap: ${space.s};
  justify-items: start;
`;
const VERDICTS = {clear: 'right', held: 'fault', later: 'risk'} as const;
const LEVELS = {good: 'right', doubtful: 'risk', bad: 'fault', unknown: 'note'} as const;

export const BeforeView = ({tenant}: {tenant: string}) => (
  <Grid>
    <ListCheckCard tenant={tenant} />
    <ClearanceCard tenant={tenant} />
    <AddressCheckCard tenant={tenant} />
  </Grid>
);

const split = (text: string) =>
  text
    .split(/[\n,;]+/)
    .map((each) => each.trim())
    .filter(Boolean);

function ClearanceCard({tenant}: {tenant: string}) {
  const [text, setText] = useState('');
  const [stream, setStream] = useState('');
  const names = useFlowNames(tenant);
  const ask = useClearance(tenant);
  const addresses = split(text);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (addresses.length)
      ask.mutate({addresses, stream: stream || null, only_held: false, cleared_before: 0, cleared_by_provider: {}});
  };
  return (
    <Card title="Clearance check" note="one address per line">
      <Form onSubmit={submit}>
        <Field label="Addresses" mono lines={5} value={text} onChange={setText} style={{width: '100%'}} />
        <Choice
          field
          label="Stream"
          value={stream || 'any'}
          options={[
            {value: 'any', label: 'No particular stream'},
            ...(names.data?.streams ?? []).filter(Boolean).map((name) => ({value: name, label: `Stream ${name}`})),
          ]}
          onChange={(value) => setStream(value === 'any' ? '' : value)}
        />
        <Button type="submit" tone="main" isDisabled={ask.isPending || addresses.length === 0}>
          {addresses.length > 1 ? `Check ${addresses.length} addresses` : 'Check'}
        </Button>
      </Form>
      {ask.error && <Trouble error={ask.error} />}
      {ask.data && (
        <>
          <p role="status">
            <b>{ask.data.held} held</b>, {ask.data.clear} clear
            {ask.data.later ? `, ${ask.data.later} later` : ''}.
          </p>
          <DataTable
            label="Results"
            columns={[
              {
                name: 'Address',
                value: (row: Schemas['ClearanceAnswer']) => row.address,
                show: (row) => <Mono>{row.address}</Mono>,
              },
              {
                name: 'Result',
                value: (row) => row.verdict,
                show: (row) => <Tag level={VERDICTS[row.verdict]}>{row.verdict}</Tag>,
              },
              {
                name: 'Reason',
                value: (row) =>
                  row.why ||
                  (row.elsewhere ?? []).map((each) => `held for ${each.scope} ${each.scope_name}`).join(', '),
                show: (row) => (
                  <Wrap>
                    {row.why ||
                      ((row.elsewhere ?? []).length
                        ? `Held for ${row.elsewhere!.map((each) => `${each.scope} ${each.scope_name}`).join(', ')} only`
                        : '')}
                    {row.not_before ? ` Send after ${row.not_before.slice(0, 16).replace('T', ' ')}.` : ''}
                  </Wrap>
                ),
              },
            ]}
            rows={ask.data.answers}
            id={(row) => row.address}
            file="clearance.csv"
          />
        </>
      )}
    </Card>
  );
}

function AddressCheckCard({tenant}: {tenant: string}) {
  const [text, setText] = useState('');
  const [paid, setPaid] = useState(false);
  const free = useAddressChecks(tenant);
  const verify = useVerify(tenant);
  const verifiers = useVerifiers(tenant);
  const check = paid ? verify : free;
  const addresses = split(text);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (addresses.length === 0) return;
    if (paid) verify.mutate(addresses);
    else free.mutate({addresses, probe: false});
  };
  return (
    <Card title="Check addresses" note="syntax, domain, kind and own history">
      <Form onSubmit={submit}>
        <Field label="Addresses to check" mono lines={5} value={text} onChange={setText} style={{width: '100%'}} />
        {verifiers.data?.some((each) => each.enabled) && (
          <CheckField
            label="Ask verifiers about addresses without a verdict (costs money)"
            isSelected={paid}
            onChange={setPaid}
          />
        )}
        <Button type="submit" tone="main" isDisabled={check.isPending || addresses.length === 0}>
          Check
        </Button>
      </Form>
      {check.error && <Trouble error={check.error} />}
      {check.data && (
        <DataTable
          label="Checks"
          columns={[
            {
              name: 'Address',
              value: (row: Schemas['AddressCheck']) => row.address,
              show: (row) => <Mono>{row.address}</Mono>,
            },
            {
              name: 'Verdict',
              value: (row) => row.verdict,
              show: (row) => <Tag level={LEVELS[row.verdict]}>{row.verdict}</Tag>,
            },
            {
              name: 'Evidence',
              value: (row) => row.found.map((each) => each.detail).join('; '),
              show: (row) => (
                <Wrap>
                  {row.suggestion && <b>Suggestion {row.suggestion}? </b>}
                  {row.found.map((each) => each.detail).join('; ')}
                </Wrap>
              ),
            },
          ]}
          rows={check.data}
          id={(row) => row.address}
          file="checks.csv"
        />
      )}
    </Card>
  );
}

function ListCheckCard({tenant}: {tenant: string}) {
  const jobs = useJobs(tenant, 'list_check');
  const send = useSendList(tenant);
  const verifiers = useVerifiers(tenant);
  const [paid, setPaid] = useState(false);
  const [share, setShare] = useState(0);
  const [chosen, setChosen] = useState(0);
  const id = chosen || jobs.data?.[0]?.id || 0;
  const take = (file: File) => {
    setShare(0);
    send.mutate(
      {file, kind: 'list_check', request: {} as Schemas['ImportRequest'], verify: paid, told: setShare},
      {onSuccess: (job) => setChosen(job.id)},
    );
  };
  return (
    <Card
      title="List check"
      note="nothing is mailed, and the list is not stored"
      actions={
        <>
          {(jobs.data?.length ?? 0) > 1 && (
            <Choice
              label="Earlier checks"
              value={String(id)}
              options={jobs.data!.map((job) => ({value: String(job.id), label: `${job.name}, ${ago(job.created_at)}`}))}
              onChange={(value) => setChosen(Number(value))}
            />
          )}
        </>
      }
    >
      {verifiers.data?.some((each) => each.enabled) && (
        <CheckField
          label="Ask verifiers about addresses without a verdict, within their budgets"
          isSelected={paid}
          onChange={setPaid}
        />
      )}
      <FilePicker
        label="Choose file"
        hint="or drop it here: CSV, NDJSON or one address per line"
        accept={['.csv', '.ndjson', '.txt', 'text/csv', 'text/plain']}
        isDisabled={send.isPending}
        onFile={take}
      />
      {send.isPending && <p role="status">Uploading: {percent(share)}</p>}
      {send.error && <Trouble error={send.error} />}
      {id === 0 && !send.isPending && (
        <Notice title="No lists checked yet">
          Choose a file to see its expected bounces by provider and download the clean part.
        </Notice>
      )}
      {id > 0 && <Report tenant={tenant} id={id} />}
    </Card>
  );
}

interface Report {
  counts: Record<string, number>;
  why: Record<string, number>;
  doubts: Record<string, number>;
  suggestions: Record<string, number>;
  by_provider: Record<string, Record<string, number>>;
}

/** Why rows are held or doubtful, the most often first; a reason may be both. */
export function reasonsOf(why: Record<string, number> = {}, doubts: Record<string, number> = {}): [string, number][] {
  const names = [...new Set([...Object.keys(why), ...Object.keys(doubts)])];
  return names
    .map((name): [string, number] => [name, (why[name] ?? 0) + (doubts[name] ?? 0)])
    .sort((a, b) => b[1] - a[1]);
}

function Report({tenant, id}: {tenant: string; id: number}) {
  const job = useJob(tenant, id);
  const run = useRunJob(tenant);
  if (!job.data) return null;
  const found = job.data.result as unknown as Partial<Report>;
  const {rows = 0, held = 0, clear = 0, doubtful = 0, would_bounce: bounces = 0} = found.counts ?? {};
  return (
    <>
      <JobState job={job.data} run={run} />
      {rows > 0 && (
        <>
          <p>
            <b>
              Of {count(rows)} rows {count(held)} would be held
            </b>{' '}
            and {count(doubtful)} are doubtful; {count(clear)} are clear.
            {bounces > 0 && (
              <>
                {' '}
                Without cleaning, about {count(bounces)} would bounce: <b>{percent(bounces / rows)}</b>
                {bounces / rows > 0.05
                  ? ', above the default stop line of 5 %'
                  : bounces / rows > 0.02
                    ? ', above the default watch line of 2 %'
                    : ''}
                .
              </>
            )}
          </p>
          <p>
            {(['clear', 'doubtful', 'held'] as const)
              .filter((part) => job.data!.parts?.[part])
              .map((part) => (
                <a
                  key={part}
                  style={{marginRight: 16}}
                  href={`/api/v1/tenants/${tenant}/jobs/${id}/parts/${part}`}
                  download
                >
                  Download the {part} part
                </a>
              ))}
          </p>
          <DataTable
            label="By provider"
            columns={[
              {name: 'Provider', value: (row: [string, Record<string, number>]) => row[0]},
              {name: 'Rows', value: (row) => row[1].rows ?? 0, show: (row) => count(row[1].rows ?? 0), number: true},
              {name: 'Held', value: (row) => row[1].held ?? 0, show: (row) => count(row[1].held ?? 0), number: true},
              {
                name: 'Doubtful',
                value: (row) => row[1].doubtful ?? 0,
                show: (row) => count(row[1].doubtful ?? 0),
                number: true,
              },
              {
                name: 'Expected bounces',
                value: (row) => row[1].would_bounce ?? 0,
                show: (row) => count(row[1].would_bounce ?? 0),
                number: true,
              },
              {
                name: 'Rate',
                value: (row) => (row[1].would_bounce ?? 0) / (row[1].rows || 1),
                show: (row) => percent((row[1].would_bounce ?? 0) / (row[1].rows || 1)),
                number: true,
              },
            ]}
            rows={Object.entries(found.by_provider ?? {})}
            id={(row) => row[0]}
            file={`list-check-${id}.csv`}
          />
          <p>
            <Small>
              {reasonsOf(found.why, found.doubts)
                .map(([word, n]) => `${words(word)} ${count(n)}`)
                .join(' · ')}
              {Object.keys(found.suggestions ?? {}).length > 0 && (
                <>
                  {' '}
                  · typos:{' '}
                  {Object.entries(found.suggestions!)
                    .slice(0, 5)
                    .map(([what, n]) => `${what} (${n})`)
                    .join(', ')}
                </>
              )}
            </Small>
          </p>
        </>
      )}
    </>
  );
}
