/** In and out: files in with a look before, the list out, gates for MTAs, and how programs hear of changes. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useAddressWords, useChangeGates, useGates, usePutAddressWords, useSendList} from './queries';
import {useRunJob, useJob, useJobs} from '../jobs/queries';
import {Button} from '../../design/Button';
import {Confirm} from '../../design/Confirm';
import {FilePicker} from '../../design/FilePicker';
import {Card, Small} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {CopyButton} from '../../design/CopyButton';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {ago, count, percent, time, words} from '../../design/format';
import {Notice, Trouble} from '../../design/Notice';
import {font, space} from '../../design/tokens';
import {JobState} from './JobState';
import {REASONS} from './words';

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
const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s};
  align-items: end;
`;
const Code = styled.code`
  display: block;
  font: 12px/1.4 ${font.mono};
  overflow-wrap: anywhere;
  margin: ${space.s} 0;
`;

export const WaysView = ({tenant}: {tenant: string}) => (
  <Grid>
    <ImportCard tenant={tenant} />
    <GatesCard tenant={tenant} />
    <Card title="Export" note="the whole list">
      <Row>
        <a href={`/api/v1/tenants/${tenant}/suppression/export?format=csv`} download>
          CSV
        </a>
        <a href={`/api/v1/tenants/${tenant}/suppression/export?format=ndjson`} download>
          NDJSON
        </a>
        <a href={`/api/v1/tenants/${tenant}/suppression/export?format=csv&state=ended`} download>
          Ended entries, CSV
        </a>
      </Row>
      <p>
        <Small>
          CSV cells are safe to open in a spreadsheet. To follow changes, poll `suppression/changes` or add a webhook
          for `suppression.changed`.
        </Small>
      </p>
    </Card>
    <WordsCard tenant={tenant} />
  </Grid>
);

interface Imported {
  dry: boolean;
  counts: Record<string, number>;
  layout: {form: string; encoding: string; columns: Record<string, string>};
  sample: {address: string; reason: string; since: string; until: string; note: string}[];
}
const SAID: Record<string, string> = {
  new: 'new',
  standing: 'already on the list',
  duplicates: 'duplicates in the file',
  changed: 'changed',
  came_back: 'held again',
  stayed_clear: 'lifted before, kept clear',
  rejected: 'rejected',
};

function ImportCard({tenant}: {tenant: string}) {
  const jobs = useJobs(tenant, 'import');
  const send = useSendList(tenant);
  const run = useRunJob(tenant);
  const [reason, setReason] = useState('manual');
  const [share, setShare] = useState(0);
  const [chosen, setChosen] = useState(0);
  const id = chosen || jobs.data?.find((job) => job.state !== 'collecting')?.id || 0;
  const job = useJob(tenant, id);
  const take = (file: File) => {
    setShare(0);
    const request = {
      reason,
      scope: 'tenant',
      scope_name: '',
      note: '',
      standing: 'keep',
      lifted: 'stay_clear',
      layout: {form: '', encoding: '', columns: {}},
    } as Omit<Schemas['ImportRequest'], 'name'>;
    send.mutate({file, kind: 'import', request, told: setShare}, {onSuccess: (made) => setChosen(made.id)});
  };
  const found = job.data?.result as unknown as Partial<Imported> | undefined;
  return (
    <Card title="Import" note="any encoding; preview before import">
      <div style={{maxWidth: 280, marginBottom: 12}}>
        <Choice field label="Reason if no column gives it" value={reason} options={REASONS} onChange={setReason} />
      </div>
      <FilePicker
        label="Choose file"
        hint="or drop it here: CSV, NDJSON or one address per line"
        accept={['.csv', '.ndjson', '.txt', 'text/csv', 'text/plain']}
        isDisabled={send.isPending}
        onFile={take}
      />
      {send.isPending && <p role="status">Uploading: {percent(share)}</p>}
      {send.error && <Trouble error={send.error} />}
      {!id && !send.isPending && (
        <Notice title="No imports yet">
          Lifted addresses stay clear and existing entries are unchanged. The command line and the API have more
          options.
        </Notice>
      )}
      {job.data && (
        <>
          <p>
            <b>{job.data.name}</b>{' '}
            <Small>
              {ago(job.data.created_at)} by {job.data.created_by}
            </Small>
          </p>
          <JobState job={job.data} run={run} />
          {found?.counts && (
            <p role="status">
              {found.dry ? 'Preview: ' : 'Imported: '}
              {Object.entries(SAID)
                .filter(([name]) => found.counts![name])
                .map(([name, said]) => `${count(found.counts![name]!)} ${said}`)
                .join(', ')}
              .{' '}
              <Small>
                {found.layout?.form}, {found.layout?.encoding}
                {Object.entries(found.layout?.columns ?? {})
                  .map(([name, column]) => `, ${name} from ${column}`)
                  .join('')}
              </Small>
            </p>
          )}
          {job.data.state === 'done' && found?.dry && (
            <Button tone="main" onPress={() => run.mutate({id, dry: false})} isDisabled={run.isPending}>
              Import
            </Button>
          )}
          {job.data.parts?.rejected ? (
            <p>
              <a href={`/api/v1/tenants/${tenant}/jobs/${id}/parts/rejected-rows`} download>
                Rejected rows
              </a>
            </p>
          ) : null}
          {found?.dry && (found.sample?.length ?? 0) > 0 && (
            <DataTable
              label="First rows as read"
              columns={[
                {name: 'Address', value: (row: Imported['sample'][number]) => row.address},
                {name: 'Reason', value: (row) => words(row.reason)},
                {name: 'Since', value: (row) => row.since.slice(0, 16)},
                {name: 'Until', value: (row) => row.until.slice(0, 16)},
                {name: 'Note', value: (row) => row.note},
              ]}
              rows={found.sample!.slice(0, 8)}
              id={(row) => row.address}
            />
          )}
        </>
      )}
    </Card>
  );
}

function GatesCard({tenant}: {tenant: string}) {
  const gates = useGates(tenant);
  const {add, drop} = useChangeGates(tenant);
  const [name, setName] = useState('');
  const [stream, setStream] = useState('');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    add.mutate(
      {name: name.trim(), stream: stream.trim(), relay: ''},
      {
        onSuccess: () => {
          setName('');
          setStream('');
        },
      },
    );
  };
  return (
    <Card title="Gates for MTAs" note="Postfix asks for each recipient and rejects held ones">
      {gates.data && gates.data.length > 0 && (
        <DataTable
          label="Gates"
          columns={[
            {name: 'Name', value: (row: Schemas['Gate']) => row.name},
            {name: 'Stream', value: (row) => row.stream || 'any'},
            {
              name: 'Last request',
              value: (row) => row.last_used_at ?? '',
              show: (row) => (row.last_used_at ? time(row.last_used_at) : 'never'),
            },
            {
              name: '',
              tool: true,
              value: () => '',
              show: (row) => (
                <Confirm
                  label="Delete"
                  tone="link"
                  title={`Delete the gate ${row.name}?`}
                  action="Delete"
                  onConfirm={() => drop.mutate(row.id)}
                >
                  Its key stops working: an MTA that still uses it gets no answer.
                </Confirm>
              ),
            },
          ]}
          rows={gates.data}
          id={(row) => String(row.id)}
        />
      )}
      <form onSubmit={submit}>
        <Row>
          <Field label="Name of the MTA" value={name} onChange={setName} placeholder="mta1" isRequired />
          <Field label="Stream, if it sends only one" value={stream} onChange={setStream} />
          <Button type="submit" isDisabled={add.isPending || !name.trim()}>
            Add a gate
          </Button>
        </Row>
      </form>
      {add.error && <Trouble error={add.error} />}
      {drop.error && <Trouble error={drop.error} />}
      {add.data && (
        <div role="status">
          <p>Add this to smtpd_recipient_restrictions, before permit_mynetworks. The key is not shown again.</p>
          <Code>{add.data.line}</Code>
          <CopyButton value={add.data.line}>Copy</CopyButton>
        </div>
      )}
    </Card>
  );
}

const lines = (text: string) => text.split(/[\s,;]+/).filter(Boolean);

function WordsCard({tenant}: {tenant: string}) {
  const current = useAddressWords(tenant);
  const put = usePutAddressWords(tenant);
  const [away, setAway] = useState<string | null>(null);
  const [people, setPeople] = useState<string | null>(null);
  if (!current.data) return null;
  const save = (event: FormEvent) => {
    event.preventDefault();
    put.mutate(
      {
        ...current.data,
        throw_away: lines(away ?? current.data.throw_away!.join('\n')),
        people: lines(people ?? current.data.people!.join('\n')),
      },
      {
        onSuccess: () => {
          setAway(null);
          setPeople(null);
        },
      },
    );
  };
  return (
    <Card title="Address check lists" note="your additions to the built-in lists">
      <form onSubmit={save} style={{display: 'grid', gap: 8, justifyItems: 'start'}}>
        <Field
          label="Disposable domains"
          mono
          lines={4}
          value={away ?? current.data.throw_away!.join('\n')}
          onChange={setAway}
          style={{width: '100%'}}
        />
        <Field
          label="Role names that are real people here"
          mono
          lines={2}
          value={people ?? current.data.people!.join('\n')}
          onChange={setPeople}
          style={{width: '100%'}}
        />
        <Button type="submit" isDisabled={put.isPending || (away === null && people === null)}>
          Keep
        </Button>
      </form>
      {put.error && <Trouble error={put.error} />}
    </Card>
  );
}
