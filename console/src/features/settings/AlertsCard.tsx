/** Alert channels by email and chat: how soon and how often they are notified, and what was sent. */
import {useState, type FormEvent} from 'react';
import type {Schemas} from '../../api/client';
import {useAlertSettings, useNotifications, usePutAlertSettings, useTestChannel} from '../worklist/queries';
import {Button} from '../../design/Button';
import {Card, Small, Tag} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {Confirm} from '../../design/Confirm';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {time} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Stack} from '../../design/Stack';

type Settings = Schemas['AlertSettings'];
type Channel = Schemas['AlertChannel'];
const KINDS = [
  {value: 'mail', label: 'Email'},
  {value: 'chat', label: 'Chat (incoming webhook)'},
];
const REPORTS = [
  {value: '', label: 'Never'},
  {value: 'week', label: 'Every Monday'},
  {value: 'month', label: 'On the first of the month'},
];
const LEVELS = [
  {value: 'stop', label: 'Stop only'},
  {value: 'fix', label: 'Fix and above'},
  {value: 'investigate', label: 'Investigate and above'},
  {value: 'info', label: 'Everything'},
];

export function AlertsCard({tenant}: {tenant: string}) {
  const settings = useAlertSettings(tenant);
  return (
    <Stack>
      {settings.isPending && <Loading what="alert settings" />}
      {settings.error && <Trouble error={settings.error} />}
      {settings.data && (
        <>
          <ChannelsCard tenant={tenant} saved={settings.data} />
          <SettingsCard key={JSON.stringify(settings.data)} tenant={tenant} saved={settings.data} />
        </>
      )}
      <NotificationsCard tenant={tenant} />
    </Stack>
  );
}

function ChannelsCard({tenant, saved}: {tenant: string; saved: Settings}) {
  const put = usePutAlertSettings(tenant);
  const test = useTestChannel(tenant);
  const [adding, setAdding] = useState(false);
  const channels = saved.channels ?? [];
  const save = (changed: Channel[]) => put.mutate({...saved, channels: changed});
  return (
    <Card
      title="Alert channels"
      note="one notification per incident, sent to these channels and to webhooks"
      actions={
        !adding && (
          <Button changes onPress={() => setAdding(true)}>
            Add a channel
          </Button>
        )
      }
    >
      {channels.length === 0 && !adding && (
        <Notice title="No alert channels yet">Items still appear on the worklist. Add a channel to be notified.</Notice>
      )}
      {channels.length > 0 && (
        <DataTable
          label="Alert channels"
          columns={[
            {name: 'Name', value: (row: Channel) => row.name},
            {name: 'Kind', value: (row) => (row.kind === 'mail' ? 'Email' : 'Chat')},
            {name: 'To', value: (row) => ((row.to ?? []).join(', ') || row.url) ?? ''},
            {
              name: 'Notified of',
              value: (row) => LEVELS.find((level) => level.value === row.min_level)?.label ?? '',
            },
            {name: 'Quiet hours (UTC)', value: (row) => (row.quiet_from ? `${row.quiet_from} to ${row.quiet_to}` : '')},
            {
              name: '',
              value: () => '',
              tool: true,
              show: (row) => (
                <span style={{display: 'flex', gap: 12, justifyContent: 'end'}}>
                  <Button
                    tone="link"
                    aria-label={`Send test to ${row.name}`}
                    isDisabled={test.isPending}
                    onPress={() => test.mutate(row.name)}
                  >
                    Send test
                  </Button>
                  <Confirm
                    label="Delete"
                    tone="link"
                    title={`Delete the channel ${row.name}?`}
                    action="Delete"
                    isDisabled={put.isPending}
                    onConfirm={() => save(channels.filter((channel) => channel !== row))}
                  >
                    It is no longer notified. What was sent to it stays in the list below.
                  </Confirm>
                </span>
              ),
            },
          ]}
          rows={channels}
          id={(row) => row.name}
          file={`channels-${tenant}.csv`}
        />
      )}
      {adding && (
        <ChannelForm
          busy={put.isPending}
          onCancel={() => setAdding(false)}
          onAdd={(channel) => save([...channels, channel])}
        />
      )}
      {put.error && <Trouble error={put.error} />}
      {test.error && <Trouble error={test.error} />}
      {test.data && (
        <Notice title={`${test.data.channel} ${test.data.taken ? 'took' : 'did not take'} the test`}>
          {test.data.response}
        </Notice>
      )}
    </Card>
  );
}

function ChannelForm({
  busy,
  onAdd,
  onCancel,
}: {
  busy: boolean;
  onAdd: (channel: Channel) => void;
  onCancel: () => void;
}) {
  const [kind, setKind] = useState('mail');
  const [name, setName] = useState('');
  const [to, setTo] = useState('');
  const [level, setLevel] = useState('investigate');
  const [from, setFrom] = useState('');
  const [until, setUntil] = useState('');
  const [template, setTemplate] = useState('{"text": "{what}: {title}\\n{text}\\n{link}"}');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    onAdd({
      kind: kind as Channel['kind'],
      name: name.trim(),
      min_level: level as Channel['min_level'],
      quiet_from: from,
      quiet_to: until,
      template,
      to: kind === 'mail' ? to.split(/[\s,;]+/).filter(Boolean) : [],
      url: kind === 'chat' ? to.trim() : '',
    });
  };
  return (
    <FormGrid onSubmit={submit} aria-label="New channel">
      <Choice field label="Kind" value={kind} options={KINDS} onChange={setKind} />
      <Field label="Name" value={name} onChange={setName} placeholder="Isla" isRequired />
      <Field
        label={kind === 'mail' ? 'Email addresses' : 'URL of the incoming webhook'}
        value={to}
        onChange={setTo}
        placeholder={kind === 'mail' ? 'isla@skerry.example' : 'https://chat.skerry.example/in/…'}
        isRequired
      />
      <Choice field label="Notify of" value={level} options={LEVELS} onChange={setLevel} />
      <Field label="Quiet from (UTC)" type="time" value={from} onChange={setFrom} />
      <Field label="Quiet until (UTC)" type="time" value={until} onChange={setUntil} />
      {kind === 'chat' && (
        <div data-wide>
          <Field
            label="Message template"
            hint="JSON with {title} {text} {level} {what} {tenant} {remedy} {link}"
            mono
            value={template}
            onChange={setTemplate}
          />
        </div>
      )}
      <footer>
        <Button type="submit" tone="main" isDisabled={busy || !name.trim() || !to.trim()}>
          Add
        </Button>
        <Button onPress={onCancel}>Cancel</Button>
      </footer>
    </FormGrid>
  );
}

function SettingsCard({tenant, saved}: {tenant: string; saved: Settings}) {
  const put = usePutAlertSettings(tenant);
  const [wait, setWait] = useState(String(saved.wait_minutes));
  const [repeat, setRepeat] = useState(String(saved.repeat_hours));
  const [resolve, setResolve] = useState(String(saved.resolve_hours));
  const [confidence, setConfidence] = useState(String(saved.confidence * 100));
  const [every, setEvery] = useState<string>(saved.report_every ?? '');
  const [recipients, setRecipients] = useState((saved.report_to ?? []).join(', '));
  const submit = (event: FormEvent) => {
    event.preventDefault();
    put.mutate({
      ...saved,
      wait_minutes: Number(wait),
      repeat_hours: Number(repeat),
      resolve_hours: Number(resolve),
      confidence: Number(confidence) / 100,
      report_every: every as Settings['report_every'],
      report_to: recipients.split(/[\s,;]+/).filter(Boolean),
    });
  };
  return (
    <Card title="Notification timing and reports">
      <FormGrid onSubmit={submit}>
        <Field
          label="Delay before the first notification, minutes"
          hint="incidents that end within it are not reported"
          value={wait}
          onChange={setWait}
          isRequired
        />
        <Field
          label="Remind after, hours"
          hint="while nobody has acknowledged the item; 0: never"
          value={repeat}
          onChange={setRepeat}
          isRequired
        />
        <Field
          label="Resolve after, hours"
          hint="without the problem"
          value={resolve}
          onChange={setResolve}
          isRequired
        />
        <Field
          label="Confidence for crossed lines, %"
          hint="needed to report that a rate is above its line"
          value={confidence}
          onChange={setConfidence}
          isRequired
        />
        <Choice field label="Report by email" value={every} options={REPORTS} onChange={setEvery} />
        <Field
          label="Report recipients"
          hint="the same report can be printed from Readings"
          value={recipients}
          onChange={setRecipients}
          placeholder="boss@skerry.example"
        />
        <footer>
          <Button type="submit" tone="main" isDisabled={put.isPending}>
            Save
          </Button>
          {put.isSuccess && <Small role="status">Saved.</Small>}
        </footer>
      </FormGrid>
      {put.error && <Trouble error={put.error} />}
    </Card>
  );
}

function NotificationsCard({tenant}: {tenant: string}) {
  const sent = useNotifications(tenant);
  if (!sent.data || sent.data.length === 0) return null;
  return (
    <Card title="Notifications sent" note="newest first">
      <DataTable
        label="Notifications"
        columns={[
          {name: 'Time', value: (row: Schemas['Notification']) => row.made_at, show: (row) => time(row.made_at)},
          {name: 'Channel', value: (row) => row.channel},
          {name: 'Title', value: (row) => row.title},
          {
            name: 'State',
            value: (row) => row.state,
            show: (row) => (row.state === 'dead' ? <Tag level="fault">failed</Tag> : row.state),
          },
          {name: 'Attempts', value: (row) => row.attempts, number: true},
          {name: 'Response', value: (row) => row.response},
        ]}
        rows={sent.data}
        id={(row) => String(row.id)}
        file={`notifications-${tenant}.csv`}
      />
    </Card>
  );
}
