/** Feeds: how each goes, what it rejected, and a mapping that is tried on a sample until it fits. */
import {useRef, useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {
  useAddFeed,
  useChangeFeed,
  useDropFeed,
  useFeeds,
  useHandToFeed,
  useMappingTrial,
  useRefused,
  useReplayRefused,
} from './queries';
import {useView} from '../../shell/view';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {CopyButton} from '../../design/CopyButton';
import {Confirm} from '../../design/Confirm';
import {DataTable} from '../../design/DataTable';
import {FilePicker} from '../../design/FilePicker';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {ago, count, plural} from '../../design/format';
import {JsonFile} from '../../design/JsonFile';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Row, Stack} from '../../design/Stack';
import {colour, font} from '../../design/tokens';
import {fromDraft, MappingForm, toDraft} from './MappingForm';
import {piecesOf, typeOf} from './upload';

type Feed = Schemas['Feed'];
type Kind = Feed['kind'];

const Mono = styled.code`
  font: 12px ${font.mono};
  overflow-wrap: anywhere;
  white-space: normal;
`;
const Steps = styled.table`
  border-collapse: collapse;
  font-size: 12px;
  margin: 4px 0 10px;
  td {
    padding: 2px 10px 2px 0;
    vertical-align: top;
    font-family: ${font.mono};
    overflow-wrap: anywhere;
  }
  td:first-child {
    font-family: ${font.sans};
    color: ${colour('soft')};
  }
`;

const KINDS: {value: Kind; label: string}[] = [
  {value: 'http', label: 'HTTP'},
  {value: 'mail', label: 'Mail: bounces and feedback reports'},
  {value: 'mailbox', label: 'Mailbox: Maildir, mbox, IMAP'},
  {value: 'log', label: 'Postfix log'},
  {value: 'queue', label: 'Queue: AMQP 0-9-1'},
  {value: 'reports', label: 'Reports of receivers: DMARC and TLS'},
];
const START: Schemas['FeedMapping'] = {
  unwrap: [],
  rows: '$',
  each: '',
  fields: {
    kind: {path: '$.event', table: {bounce: 'bounced'}, constant: null, default: null, form: ''},
    time: {path: '$.at', constant: null, table: null, default: null, form: 'seconds'},
    domain: {path: '$.from', constant: null, table: null, default: null, form: ''},
    recipient: {path: '$.to', constant: null, table: null, default: null, form: ''},
  },
};

export function FeedsView({tenant}: {tenant: string}) {
  const feeds = useFeeds(tenant);
  const [adding, setAdding] = useState(false);
  const view = useView();
  const open = view.get('feed');
  const setOpen = (name: string) => view.go('feed', name);
  const chosen = feeds.data?.find((each) => each.name === open);
  return (
    <Stack>
      <Card
        title="Feeds"
        note="each event is counted once, however often it arrives"
        actions={
          <Button changes onPress={() => setAdding(true)}>
            Add a feed
          </Button>
        }
      >
        {feeds.isPending && <Loading what="feeds" />}
        {feeds.error && <Trouble error={feeds.error} again={() => void feeds.refetch()} />}
        {feeds.data?.length === 0 && !adding && (
          <Notice title="No feeds yet">
            Add a feed for each source of events: a sending service, an MTA log, a bounce mailbox. Its events fill the
            wall, the trails and the readings.{' '}
            <Button tone="main" changes onPress={() => setAdding(true)}>
              Add your first feed
            </Button>
          </Notice>
        )}
        {feeds.data && feeds.data.length > 0 && (
          <DataTable
            label="Feeds"
            columns={[
              {name: 'Feed', value: (row: Feed) => row.name},
              {name: 'Kind', value: (row) => row.kind},
              {
                name: 'Status',
                value: (row) => row.summary,
                show: (row) =>
                  row.error ? (
                    <Tag level="fault">{row.summary}</Tag>
                  ) : row.paused ? (
                    <Tag level="note">paused</Tag>
                  ) : (
                    row.summary
                  ),
              },
              {name: 'Today', value: (row) => row.stored_today, show: (row) => count(row.stored_today), number: true},
              {
                name: 'Rejected',
                value: (row) => row.rejected,
                show: (row) => (row.rejected ? <Tag level="risk">{row.rejected}</Tag> : 0),
                number: true,
              },
              {name: 'Position', value: (row) => row.position, show: (row) => <Soft>{row.position}</Soft>},
              {
                name: 'Details',
                value: () => '',
                tool: true,
                show: (row) => (
                  <Button tone="link" onPress={() => setOpen(open === row.name ? '' : row.name)}>
                    {open === row.name ? 'Close' : 'Open'}
                  </Button>
                ),
              },
            ]}
            rows={feeds.data}
            id={(row) => row.name}
            file={`feeds-${tenant}.csv`}
          />
        )}
        {adding && <AddForm tenant={tenant} onDone={() => setAdding(false)} onAdded={setOpen} />}
      </Card>
      {chosen && <FeedCard key={chosen.name} tenant={tenant} feed={chosen} />}
    </Stack>
  );
}

function AddForm({tenant, onDone, onAdded}: {tenant: string; onDone: () => void; onAdded: (name: string) => void}) {
  const add = useAddFeed(tenant);
  const [name, setName] = useState('');
  const [kind, setKind] = useState<Kind>('http');
  const [where, setWhere] = useState('');
  const [relay, setRelay] = useState('');
  const [tray, setTray] = useState('');
  const brings = kind === 'mail' || kind === 'mailbox';
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const source = {
      addresses: kind === 'mail' || kind === 'reports' ? where.split(/[\s,]+/).filter(Boolean) : [],
      path: kind === 'log' || kind === 'mailbox' ? where.trim() : '',
      host: '',
      port: null,
      tls: true,
      user: '',
      folder: 'INBOX',
      queue: '',
      virtual_host: '/',
    };
    if (kind === 'queue') Object.assign(source, {host: where.split('/')[0], queue: where.split('/')[1] ?? ''});
    add.mutate({
      name: name.trim(),
      kind,
      source,
      mapping: null,
      defaults: {domain: '', stream: '', relay: relay.trim(), tray: brings ? tray.trim() : ''},
      password: '',
    });
  };
  if (add.data) {
    return (
      <Notice title={`Feed ${add.data.name} added. Copy its secrets now, they are not shown again`}>
        <p>
          Address <Mono>{`${window.location.origin}/api/v1/intake/${add.data.key}`}</Mono>
        </p>
        {add.data.kind === 'reports' && (
          <p>
            For TLS reports, in the _smtp._tls record:{' '}
            <Mono>{`rua=${window.location.origin}/api/v1/tls-reports/${add.data.key}`}</Mono>
          </p>
        )}
        <p>
          Token <Mono>{add.data.token}</Mono> <CopyButton value={add.data.token}>Copy token</CopyButton>
        </p>
        <p>
          Signing key <Mono>{add.data.secret}</Mono> <CopyButton value={add.data.secret}>Copy key</CopyButton>
        </p>
        <Button
          tone="main"
          onPress={() => {
            onAdded(add.data.name);
            onDone();
          }}
        >
          Continue to the feed
        </Button>
      </Notice>
    );
  }
  const asks = {
    http: '',
    mail: 'Addresses, or @domain',
    mailbox: 'Maildir or mbox path on the server',
    log: 'Log file path on the server',
    queue: 'host/queue',
    reports: 'Addresses for rua and ruf; empty: by upload and post only',
  }[kind];
  return (
    <FormGrid style={{marginTop: 12}} onSubmit={submit}>
      <Field label="Name" value={name} onChange={setName} placeholder="driftline" isRequired />
      <Choice field label="Kind" value={kind} options={KINDS} onChange={(value) => setKind(value as Kind)} />
      {asks && <Field label={asks} mono value={where} onChange={setWhere} isRequired={kind !== 'reports'} />}
      <Field label="Default relay" value={relay} onChange={setRelay} placeholder="if the source names none" />
      {brings && (
        <Field label="Tray" hint="catch messages there instead of reading them" value={tray} onChange={setTray} />
      )}
      <Row data-wide>
        <Button type="submit" tone="main" isDisabled={add.isPending}>
          Add
        </Button>
        <Button onPress={onDone}>Cancel</Button>
      </Row>
      {add.error && (
        <div data-wide>
          <Trouble error={add.error} />
        </div>
      )}
    </FormGrid>
  );
}

interface Upload {
  file: File;
  pieces: number;
  share: number;
  stored: number;
  duplicates: number;
  rejected: number;
  state: 'running' | 'cancelled' | 'done';
  summary: string;
}

function FeedCard({tenant, feed}: {tenant: string; feed: Feed}) {
  const rejected = useRefused(tenant, feed.name);
  const change = useChangeFeed(tenant);
  const replay = useReplayRefused(tenant);
  const drop = useDropFeed(tenant);
  const hand = useHandToFeed(tenant);
  const [upload, setUpload] = useState<Upload | null>(null);
  const stopped = useRef(false);
  const load = async (file: File | undefined, from?: Upload) => {
    if (!file) return;
    stopped.current = false;
    const type = typeOf(file.name, feed.kind);
    let now: Upload = {
      file,
      pieces: 0,
      share: 0,
      stored: 0,
      duplicates: 0,
      rejected: 0,
      ...from,
      state: 'running',
      summary: '',
    };
    setUpload(now);
    try {
      let number = 0;
      for await (const piece of piecesOf(file, type)) {
        number += 1;
        if (number <= (from?.pieces ?? 0)) continue; // stored before it was cut off
        if (stopped.current) break;
        const done = await hand.mutateAsync({name: feed.name, body: piece.body, type});
        now = {
          ...now,
          pieces: number,
          share: piece.share,
          stored: now.stored + done.stored,
          duplicates: now.duplicates + done.duplicates,
          rejected: now.rejected + done.rejected,
        };
        setUpload(now);
      }
      setUpload({...now, state: stopped.current ? 'cancelled' : 'done'});
    } catch (error) {
      setUpload({
        ...now,
        state: 'cancelled',
        summary:
          error instanceof TypeError && /decod|encod/i.test(error.message)
            ? `${file.name} is not UTF-8. Convert it first.`
            : '',
      });
    }
  };
  return (
    <Card
      title={feed.name}
      note={feed.summary}
      actions={
        <Row>
          <Button changes onPress={() => change.mutate({name: feed.name, body: {paused: !feed.paused}})}>
            {feed.paused ? 'Resume' : 'Pause'}
          </Button>
          <Confirm
            label="Delete feed"
            title={`Delete the feed ${feed.name}?`}
            action="Delete"
            onConfirm={() => drop.mutate(feed.name)}
          >
            Its token stops working, and its rejected rows are deleted. Events that it brought stay.
          </Confirm>
        </Row>
      }
    >
      <FilePicker
        label="Upload file"
        hint="or drop it here: NDJSON, JSON, CSV, messages, mbox or a log"
        accept={['.ndjson', '.json', '.csv', '.eml', '.mbox', '.log', '.txt']}
        isDisabled={upload?.state === 'running'}
        onFile={(file) => void load(file)}
      />
      <p style={{fontSize: 13}}>
        Address <Mono>/api/v1/intake/{feed.key}</Mono>
        {feed.last_arrival_at && <Small> last event {ago(feed.last_arrival_at)}</Small>}
      </p>
      {upload && (
        <Row role="status" style={{fontSize: 13}}>
          {upload.state === 'running' && <progress max={1} value={upload.share} aria-label="Upload" />}
          {upload.file.name}, {upload.state === 'done' ? 'the whole file' : `${Math.round(upload.share * 100)} %`}:{' '}
          {plural(upload.stored, 'event')} stored, {upload.duplicates} duplicates, {upload.rejected} rejected.{' '}
          {upload.summary}
          {upload.state === 'running' && (
            <Button
              onPress={() => {
                stopped.current = true;
              }}
            >
              Cancel
            </Button>
          )}
          {upload.state === 'cancelled' && !upload.summary && (
            <Button onPress={() => void load(upload.file, upload)}>Resume</Button>
          )}
        </Row>
      )}
      {[change, replay, drop, hand].map((each, i) => each.error && <Trouble key={i} error={each.error} />)}
      {rejected.data && rejected.data.items.length > 0 && (
        <>
          <Row style={{margin: '10px 0 4px'}}>
            <b>Rejected rows</b>
            <Button changes onPress={() => replay.mutate(feed.name)} isDisabled={replay.isPending}>
              Retry
            </Button>
            {replay.data && (
              <Small role="status">
                {replay.data.stored} stored, {replay.data.rejected} rejected again
              </Small>
            )}
          </Row>
          <DataTable
            label="Rejected rows"
            columns={[
              {
                name: 'Received',
                value: (row: Schemas['RejectedRow']) => row.arrived_at,
                show: (row) => <Small>{ago(row.arrived_at)}</Small>,
              },
              {
                name: 'Problem',
                value: (row) => row.problems.map((each) => each.what).join('; '),
                show: (row) => (
                  <span style={{whiteSpace: 'normal'}}>
                    {row.problems.map((each) => [each.field, each.what].filter(Boolean).join(': ')).join('; ')}
                  </span>
                ),
              },
              {name: 'Row', value: (row) => row.item, show: (row) => <Mono>{row.item.slice(0, 300)}</Mono>},
            ]}
            rows={rejected.data.items}
            id={(row) => String(row.id)}
            file={`rejected-${feed.name}.csv`}
          />
        </>
      )}
      <SourceEditor key={JSON.stringify([feed.source, feed.defaults])} tenant={tenant} feed={feed} />
      {(feed.kind === 'http' || feed.kind === 'queue') && <MappingEditor tenant={tenant} feed={feed} />}
    </Card>
  );
}

const SOURCE_FIELDS: Record<
  Kind,
  {name: 'addresses' | 'path' | 'host' | 'port' | 'user' | 'folder' | 'queue' | 'virtual_host'; label: string}[]
> = {
  http: [],
  mail: [{name: 'addresses', label: 'Addresses, or @domain'}],
  mailbox: [
    {name: 'path', label: 'Maildir or mbox path on the server'},
    {name: 'host', label: 'or IMAP host'},
    {name: 'port', label: 'Port'},
    {name: 'user', label: 'User'},
    {name: 'folder', label: 'Folder'},
  ],
  log: [{name: 'path', label: 'Log file path on the server'}],
  reports: [
    {name: 'addresses', label: 'Addresses for rua and ruf'},
    {name: 'path', label: 'or Maildir, mbox or folder on the server'},
    {name: 'host', label: 'or IMAP host'},
    {name: 'port', label: 'Port'},
    {name: 'user', label: 'User'},
    {name: 'folder', label: 'Folder'},
  ],
  queue: [
    {name: 'host', label: 'Host'},
    {name: 'port', label: 'Port'},
    {name: 'user', label: 'User'},
    {name: 'queue', label: 'Queue'},
    {name: 'virtual_host', label: 'Virtual host'},
  ],
};

/** Where a feed reads, and what its events are when they do not say. */
function SourceEditor({tenant, feed}: {tenant: string; feed: Feed}) {
  const change = useChangeFeed(tenant);
  const asks = SOURCE_FIELDS[feed.kind];
  const [source, setSource] = useState<Record<string, string>>(() =>
    Object.fromEntries(
      asks.map(({name}) => [
        name,
        Array.isArray(feed.source[name]) ? feed.source[name].join(' ') : String(feed.source[name] ?? ''),
      ]),
    ),
  );
  const [defaults, setDefaults] = useState(feed.defaults);
  const [password, setPassword] = useState('');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const given = Object.fromEntries(
      Object.entries(source).map(([name, text]) => [
        name,
        name === 'addresses'
          ? text.split(/[\s,]+/).filter(Boolean)
          : name === 'port'
            ? Number(text) || null
            : text.trim(),
      ]),
    );
    change.mutate(
      {
        name: feed.name,
        body: {defaults, ...(asks.length ? {source: {...feed.source, ...given}} : {}), ...(password ? {password} : {})},
      },
      {onSuccess: () => setPassword('')},
    );
  };
  return (
    <details style={{marginTop: 12}}>
      <summary>Source and defaults</summary>
      <FormGrid style={{marginTop: 12}} onSubmit={submit} aria-label="Settings of the feed">
        {asks.map(({name, label}) => (
          <Field
            key={name}
            label={label}
            mono
            value={source[name] ?? ''}
            onChange={(text) => setSource({...source, [name]: text})}
          />
        ))}
        {(feed.kind === 'mailbox' || feed.kind === 'queue' || feed.kind === 'reports') && (
          <Field
            label="New password"
            type="password"
            value={password}
            onChange={setPassword}
            placeholder="leave empty to keep the current one"
          />
        )}
        {(['domain', 'stream', 'relay'] as const).map((name) => (
          <Field
            key={name}
            label={`${name[0]!.toUpperCase()}${name.slice(1)} if the source names none`}
            value={defaults[name] ?? ''}
            onChange={(text) => setDefaults({...defaults, [name]: text.trim()})}
          />
        ))}
        <Row data-wide>
          <Button type="submit" isDisabled={change.isPending}>
            Save
          </Button>
          {change.isSuccess && <Small role="status">Saved.</Small>}
        </Row>
        {change.error && (
          <div data-wide>
            <Trouble error={change.error} />
          </div>
        )}
      </FormGrid>
    </details>
  );
}

/** The mapping as a form, and a sample to test it with; each test shows every field of every row. */
function MappingEditor({tenant, feed}: {tenant: string; feed: Feed}) {
  const [draft, setDraft] = useState(() => toDraft(feed.mapping ?? START));
  const [sample, setSample] = useState('');
  const trial = useMappingTrial(tenant);
  const change = useChangeFeed(tenant);
  const mapping = fromDraft(draft);
  const take = (value: unknown) => {
    if (!(value as Schemas['FeedMapping'] | null)?.fields) {
      throw new Error('A mapping has fields: export one to see its form.');
    }
    setDraft(toDraft(value as Schemas['FeedMapping']));
  };
  return (
    <section aria-label="Mapping" style={{marginTop: 16}}>
      <h3 style={{margin: '0 0 6px'}}>
        Mapping {!feed.mapping && <Small>none: rows are read as Rust Gauge events</Small>}
      </h3>
      <MappingForm draft={draft} onChange={setDraft} />
      <div style={{marginTop: 12}}>
        <Field
          label="Sample data from the source"
          mono
          lines={6}
          value={sample}
          onChange={setSample}
          placeholder='{"event": "bounce", "at": 1763539200, ...}'
        />
      </div>
      <Row style={{margin: '8px 0'}}>
        <Button
          tone="main"
          isDisabled={trial.isPending || !sample.trim()}
          onPress={() => trial.mutate({sample, mapping, defaults: feed.defaults})}
        >
          Test mapping
        </Button>
        <Button changes isDisabled={change.isPending} onPress={() => change.mutate({name: feed.name, body: {mapping}})}>
          Save mapping
        </Button>
        {feed.mapping && (
          <Button changes tone="link" onPress={() => change.mutate({name: feed.name, body: {mapping: null}})}>
            Remove mapping
          </Button>
        )}
        <JsonFile what="mapping" file={`mapping-${feed.name}.json`} value={mapping} onRead={take} />
        {change.isSuccess && <Small role="status">Saved.</Small>}
      </Row>
      {trial.error && <Trouble error={trial.error} />}
      {change.error && <Trouble error={change.error} />}
      {trial.data?.problem && <Notice title={trial.data.problem}>{trial.data.remedy}</Notice>}
      {trial.data?.rows?.map((row, number) => (
        <div key={number}>
          <b>Row {number + 1}</b>{' '}
          {row.left_out ? (
            <Tag level="note">skipped</Tag>
          ) : row.event ? (
            <Tag level="right">an event</Tag>
          ) : (
            <Tag level="fault">rejected</Tag>
          )}
          {row.problems.map((each) => (
            <Small key={each.what}> {[each.field, each.what].filter(Boolean).join(': ')}</Small>
          ))}
          <Steps>
            <tbody>
              {row.steps.map((step) => (
                <tr key={step.field}>
                  <td>{step.field}</td>
                  <td>{step.path || 'constant'}</td>
                  <td>{JSON.stringify(step.found)}</td>
                  <td>
                    {JSON.stringify(step.found) === JSON.stringify(step.value)
                      ? ''
                      : `becomes ${JSON.stringify(step.value)}`}
                  </td>
                </tr>
              ))}
              {row.event && 'cause' in row.event && row.event.cause !== 'none' && (
                <tr>
                  <td>cause</td>
                  <td>found</td>
                  <td>{String(row.event.cause)}</td>
                  <td>
                    {String(row.event.permanence)}, {String(row.event.cause_rule)}
                  </td>
                </tr>
              )}
            </tbody>
          </Steps>
        </div>
      ))}
    </section>
  );
}
