/** Placement: runs with where their copies landed, a form that starts one, and the seeds and outlets that they use. */
import {useState, type FormEvent} from 'react';
import {Link, useNavigate} from 'react-router';
import {Button} from '../../design/Button';
import {Card, Small} from '../../design/Card';
import {CheckField} from '../../design/CheckField';
import {Choice} from '../../design/Choice';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FilePicker} from '../../design/FilePicker';
import {FormGrid} from '../../design/Form';
import {ago, plural} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Stack} from '../../design/Stack';
import {HistoryCard} from './HistoryCard';
import {InInbox, Landed, told} from './Landed';
import {OutletsCard} from './OutletsCard';
import {useOutlets, useRuns, useSeeds, useStartRun} from './queries';
import {SchedulesCard} from './SchedulesCard';
import {SeedsCard} from './SeedsCard';

export const PlacementView = ({tenant}: {tenant: string}) => (
  <Stack>
    <HistoryCard tenant={tenant} />
    <SchedulesCard tenant={tenant} />
    <Runs tenant={tenant} />
    <StartRun tenant={tenant} />
    <SeedsCard tenant={tenant} />
    <OutletsCard tenant={tenant} />
  </Stack>
);

function Runs({tenant}: {tenant: string}) {
  const runs = useRuns(tenant);
  const rows = runs.data?.pages.flatMap((page) => page.items) ?? [];
  return (
    <Card title="Placement runs" note="newest first; results appear by themselves">
      {runs.isPending && <Loading what="runs" />}
      {runs.error && <Trouble error={runs.error} again={() => void runs.refetch()} />}
      {runs.data && rows.length === 0 && (
        <Notice title="No runs yet">
          A run sends copies of a message to mailboxes of your own at the providers, and looks where each lands. Add
          seeds and an outlet first.
        </Notice>
      )}
      {rows.length > 0 && (
        <DataTable
          label="Placement runs"
          file={`placement-${tenant}.csv`}
          rows={rows}
          id={(row) => String(row.id)}
          columns={[
            {
              name: 'Run',
              value: (row) => row.id,
              show: (row) => (
                <Link
                  to={`/placement/${tenant}/${row.id}`}
                  style={{display: 'block', minWidth: '26ch', whiteSpace: 'normal'}}
                >
                  {row.title || row.subject || `run ${row.id}`}
                </Link>
              ),
            },
            {name: 'Landed', value: (row) => told(row.copies), show: (row) => <Landed copies={row.copies} />},
            {
              name: 'Inbox',
              about: {
                formula:
                  'Copies found in the inbox, divided by copies whose fate is known; with the 95 % interval (Wilson).',
                source: 'The folders of the seeds, read by IMAP.',
                period: 'One run, until its waiting time is over.',
              },
              value: (row) => row.inbox?.value ?? null,
              show: (row) => <InInbox rate={row.inbox} />,
            },
            {name: 'Spam', value: (row) => row.copies.spam ?? 0, number: true},
            {
              name: 'Missing or refused',
              value: (row) => (row.copies.missing ?? 0) + (row.copies.refused ?? 0),
              number: true,
            },
            {name: 'Outlet', value: (row) => row.outlet},
            {name: 'Schedule', value: (row) => row.schedule},
            {name: 'State', value: (row) => row.state},
            {
              name: 'Started',
              value: (row) => row.started_at ?? row.created_at,
              show: (row) => ago(row.started_at ?? row.created_at),
            },
          ]}
        />
      )}
      {runs.hasNextPage && (
        <Button needs="viewer" isDisabled={runs.isFetchingNextPage} onPress={() => void runs.fetchNextPage()}>
          Show more
        </Button>
      )}
    </Card>
  );
}

function StartRun({tenant}: {tenant: string}) {
  const outlets = useOutlets(tenant);
  const seeds = useSeeds(tenant);
  const start = useStartRun(tenant);
  const leave = useNavigate();
  const [outlet, setOutlet] = useState('');
  const [list, setList] = useState('');
  const [title, setTitle] = useState('');
  const [minutes, setMinutes] = useState('60');
  const [keep, setKeep] = useState(true);
  const [source, setSource] = useState('');
  if (!outlets.data?.length || !seeds.data?.length) return null;
  const lists = [...new Set(seeds.data.flatMap((seed) => seed.lists))].sort();
  const chosen = outlet || outlets.data[0]!.name;
  const on = seeds.data.filter((seed) => seed.enabled && (!list || seed.lists.includes(list)));
  const begin = (file?: Blob) =>
    start.mutate(
      {
        outlet: chosen,
        title: title.trim(),
        seeds: [],
        lists: list ? [list] : [],
        tray: '',
        keep_custom: keep,
        wait_minutes: Number(minutes) || 60,
        file,
      },
      {onSuccess: (run) => void leave(`/placement/${tenant}/${run.id}`)},
    );
  const submit = (event: FormEvent) => {
    event.preventDefault();
    // Text fields have LF only; a message on its way has CRLF.
    begin(source.trim() ? new Blob([source.replace(/\r?\n/g, '\r\n')]) : undefined);
  };
  return (
    <Card title="Start a run" note={`copies go to ${plural(on.length, 'seed')}`}>
      <FormGrid onSubmit={submit} needs="operator">
        <Choice
          field
          label="Outlet"
          value={chosen}
          options={outlets.data.map((each) => ({value: each.name, label: each.name}))}
          onChange={setOutlet}
        />
        <Choice
          field
          label="Seeds"
          value={list}
          options={[{value: '', label: 'All that are on'}, ...lists.map((each) => ({value: each, label: each}))]}
          onChange={setList}
        />
        <Field label="Title" hint="without one, the subject" value={title} onChange={setTitle} />
        <Field
          label="Waiting time, minutes"
          hint="a copy not found by then is missing"
          value={minutes}
          onChange={setMinutes}
        />
        <CheckField label="Keep custom header fields" isSelected={keep} onChange={setKeep} />
        <div data-wide>
          <FilePicker
            label={start.isPending ? 'Starting …' : 'Choose the message and start'}
            hint="or drop an .eml file here"
            accept={['.eml', 'message/rfc822']}
            isDisabled={start.isPending}
            onFile={begin}
          />
        </div>
        <div data-wide>
          <Field label="Or paste the full source, with headers" mono lines={3} value={source} onChange={setSource} />
        </div>
        <footer>
          <Button type="submit" changes tone="main" needs="operator" isDisabled={start.isPending}>
            {source.trim() ? 'Start' : 'Start and mail the message'}
          </Button>
          <Small>Without a message, the run gets an address that you mail it to from any program.</Small>
        </footer>
      </FormGrid>
      {start.error && <Trouble error={start.error} />}
    </Card>
  );
}
