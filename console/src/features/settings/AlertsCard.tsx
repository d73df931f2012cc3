/** Who is told of trouble: ways by mail and chat, how soon and how often; what was told; brakes that hold a stream. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {
  useAlertSettings,
  useStreamPauses,
  usePutAlertSettings,
  usePauseStream,
  useResumeStream,
  useNotifications,
} from '../worklist/queries';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {time} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {space} from '../../design/tokens';

type Settings = Schemas['AlertSettings'];
type Way = Schemas['AlertChannel'];
const Form = styled.form`
  display: grid;
  gap: ${space.m};
  grid-template-columns: repeat(auto-fill, minmax(220px, 1fr));
  align-items: start;
  margin-bottom: ${space.m};
  > button {
    justify-self: start;
    margin-top: 20px;
  }
`;
const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s} ${space.m};
  align-items: end;
  margin: ${space.s} 0;
`;
const KINDS = [
  {value: 'mail', label: 'By mail'},
  {value: 'chat', label: 'To a chat'},
];
const REPORTS = [
  {value: '', label: 'No report by mail'},
  {value: 'week', label: 'Every Monday'},
  {value: 'month', label: 'On the first of the month'},
];
const LEVELS = [
  {value: 'stop', label: 'what stops mail'},
  {value: 'fix', label: 'what is to be mended, and worse'},
  {value: 'investigate', label: 'what to look at, and worse'},
  {value: 'info', label: 'everything'},
];

export function AlertsCard({tenant}: {tenant: string}) {
  const settings = useAlertSettings(tenant);
  return (
    <>
      <Card title="Alerts" note="one incident is told once: on these ways, and to webhooks">
        {settings.isPending && <Loading what="alerts" />}
        {settings.error && <Trouble error={settings.error} />}
        {settings.data && <Alerts key={JSON.stringify(settings.data)} tenant={tenant} kept={settings.data} />}
      </Card>
      <StreamPausesCard tenant={tenant} />
    </>
  );
}

function Alerts({tenant, kept}: {tenant: string; kept: Settings}) {
  const put = usePutAlertSettings(tenant);
  const told = useNotifications(tenant);
  const [wait, setWait] = useState(String(kept.wait_minutes));
  const [repeat, setRepeat] = useState(String(kept.repeat_hours));
  const [well, setWell] = useState(String(kept.resolve_hours));
  const [sure, setSure] = useState(String(kept.confidence * 100));
  const [every, setEvery] = useState<string>(kept.report_every ?? '');
  const [people, setPeople] = useState((kept.report_to ?? []).join(', '));
  const submit = (event: FormEvent) => {
    event.preventDefault();
    put.mutate({
      ...kept,
      wait_minutes: Number(wait),
      repeat_hours: Number(repeat),
      resolve_hours: Number(well),
      confidence: Number(sure) / 100,
      report_every: every as Settings['report_every'],
      report_to: people.split(/[\s,;]+/).filter(Boolean),
    });
  };
  return (
    <>
      <Form onSubmit={submit}>
        <Field
          label="Wait before telling, minutes"
          hint="what passes meanwhile tells nobody"
          value={wait}
          onChange={setWait}
          isRequired
        />
        <Field
          label="Tell again after, hours"
          hint="while nobody looks after it; 0: never"
          value={repeat}
          onChange={setRepeat}
          isRequired
        />
        <Field label="Close when well for, hours" value={well} onChange={setWell} isRequired />
        <Field label="A line is crossed when sure to, %" value={sure} onChange={setSure} isRequired />
        <Field
          label="A report goes to"
          hint="addresses; it can be printed from Readings, too"
          value={people}
          onChange={setPeople}
          placeholder="boss@skerry.example"
        />
        <div>
          <Choice label="How often" value={every} options={REPORTS} onChange={setEvery} />
        </div>
        <Button type="submit" tone="main" isDisabled={put.isPending}>
          Keep these settings
        </Button>
      </Form>
      {(kept.channels ?? []).length === 0 ? (
        <Notice title="Nobody is told by mail or chat">Items are on the worklist all the same. Add a way below.</Notice>
      ) : (
        <DataTable
          label="Ways to tell"
          columns={[
            {name: 'Name', value: (row: Way) => row.name},
            {name: 'How', value: (row) => row.kind},
            {name: 'To', value: (row) => row.to?.join(', ') || row.url || ''},
            {name: 'Is told', value: (row) => LEVELS.find((each) => each.value === row.min_level)?.label ?? ''},
            {name: 'Quiet (UTC)', value: (row) => (row.quiet_from ? `${row.quiet_from} to ${row.quiet_to}` : '')},
            {
              name: '',
              value: () => '',
              tool: true,
              show: (row) => (
                <Button
                  tone="link"
                  onPress={() =>
                    put.mutate({...kept, channels: (kept.channels ?? []).filter((each) => each.name !== row.name)})
                  }
                >
                  Take away
                </Button>
              ),
            },
          ]}
          rows={kept.channels ?? []}
          id={(row) => row.name}
          file={`ways-${tenant}.csv`}
        />
      )}
      <AddWay busy={put.isPending} onAdd={(way) => put.mutate({...kept, channels: [...(kept.channels ?? []), way]})} />
      {put.error && <Trouble error={put.error} />}
      {told.data && told.data.length > 0 && (
        <DataTable
          label="What was told"
          columns={[
            {name: 'When', value: (row: Schemas['Notification']) => row.made_at, show: (row) => time(row.made_at)},
            {name: 'Way', value: (row) => row.channel},
            {name: 'What', value: (row) => row.title},
            {
              name: 'State',
              value: (row) => row.state,
              show: (row) => (row.state === 'dead' ? <Tag level="fault">given up</Tag> : row.state),
            },
            {name: 'Tries', value: (row) => row.attempts, number: true},
            {name: 'Answer', value: (row) => row.response},
          ]}
          rows={told.data}
          id={(row) => String(row.id)}
          file={`told-${tenant}.csv`}
        />
      )}
    </>
  );
}

function AddWay({busy, onAdd}: {busy: boolean; onAdd: (way: Way) => void}) {
  const [kind, setKind] = useState('mail');
  const [name, setName] = useState('');
  const [to, setTo] = useState('');
  const [least, setLeast] = useState('investigate');
  const [from, setFrom] = useState('');
  const [until, setUntil] = useState('');
  const [template, setTemplate] = useState('{"text": "{what}: {title}\\n{text}\\n{link}"}');
  const add = () =>
    onAdd({
      kind: kind as Way['kind'],
      name,
      min_level: least as Way['min_level'],
      quiet_from: from,
      quiet_to: until,
      template,
      to: kind === 'mail' ? to.split(/[\s,;]+/).filter(Boolean) : [],
      url: kind === 'chat' ? to.trim() : '',
    });
  return (
    <Row>
      <Choice label="How" value={kind} options={KINDS} onChange={setKind} />
      <Field label="Name" value={name} onChange={setName} placeholder="Isla" />
      <Field
        label={kind === 'mail' ? 'Addresses' : 'Address of the incoming webhook'}
        value={to}
        onChange={setTo}
        placeholder={kind === 'mail' ? 'isla@skerry.example' : 'https://chat.skerry.example/in/…'}
        style={{minWidth: 260}}
      />
      {kind === 'chat' && (
        <Field
          label="Template"
          hint="JSON; {title} {text} {level} {what} {tenant} {remedy} {link}"
          mono
          value={template}
          onChange={setTemplate}
          style={{minWidth: 320}}
        />
      )}
      <Choice label="Of what" value={least} options={LEVELS} onChange={setLeast} />
      <Field label="Quiet from (UTC)" type="time" value={from} onChange={setFrom} />
      <Field label="to" type="time" value={until} onChange={setUntil} />
      <Button isDisabled={busy || !name.trim() || !to.trim()} onPress={add}>
        Add this way
      </Button>
    </Row>
  );
}

function StreamPausesCard({tenant}: {tenant: string}) {
  const settings = useAlertSettings(tenant);
  const put = usePutAlertSettings(tenant);
  const pauses = useStreamPauses(tenant);
  const hold = usePauseStream(tenant);
  const release = useResumeStream(tenant);
  const [stream, setStream] = useState('');
  const [relay, setRelay] = useState('');
  const [why, setWhy] = useState('');
  return (
    <Card
      title="Brakes"
      note="a stream that clearance holds as a whole until somebody releases it"
      actions={
        settings.data && (
          <Button
            isDisabled={put.isPending}
            onPress={() => put.mutate({...settings.data, auto_pause: !settings.data.auto_pause})}
          >
            {settings.data.auto_pause ? 'Do not brake by itself' : 'Pause by itself at a stop line'}
          </Button>
        )
      }
    >
      <p>
        <Small>
          {settings.data?.auto_pause
            ? 'At a stop line a stream over its relay is held by itself.'
            : 'Nothing is held by itself; streams can be held by hand.'}
        </Small>
      </p>
      {pauses.error && <Trouble error={pauses.error} />}
      {pauses.data?.length === 0 && <Soft>No stream is held.</Soft>}
      {pauses.data && pauses.data.length > 0 && (
        <DataTable
          label="Brakes"
          columns={[
            {name: 'Stream', value: (row: Schemas['StreamPause']) => row.stream},
            {name: 'Relay', value: (row) => row.relay || 'any'},
            {name: 'Since', value: (row) => row.since, show: (row) => time(row.since)},
            {name: 'Set by', value: (row) => row.by || 'a stop line'},
            {name: 'Why', value: (row) => row.why},
            {
              name: '',
              value: () => '',
              tool: true,
              show: (row) => (
                <Button
                  tone="link"
                  isDisabled={!why.trim()}
                  onPress={() =>
                    release.mutate({stream: row.stream, relay: row.relay, why}, {onSuccess: () => setWhy('')})
                  }
                >
                  Release
                </Button>
              ),
            },
          ]}
          rows={pauses.data}
          id={(row) => row.stream + row.relay}
          file={`pauses-${tenant}.csv`}
        />
      )}
      <Row>
        <Field label="Stream" value={stream} onChange={setStream} placeholder="newsletter" />
        <Field label="Relay (empty: any)" value={relay} onChange={setRelay} />
        <Field
          label="Why (to hold or to release)"
          value={why}
          onChange={setWhy}
          placeholder="Wrong prices in it"
          style={{minWidth: 260}}
        />
        <Button
          isDisabled={!stream.trim() || !why.trim() || hold.isPending}
          onPress={() =>
            hold.mutate(
              {stream, relay, why},
              {
                onSuccess: () => {
                  setStream('');
                  setWhy('');
                },
              },
            )
          }
        >
          Hold this stream
        </Button>
      </Row>
      {(hold.error ?? release.error ?? put.error) && <Trouble error={(hold.error ?? release.error ?? put.error)!} />}
    </Card>
  );
}
