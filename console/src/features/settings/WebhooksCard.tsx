/** Addresses that are told what happens: how each one's calls go, and what was given up. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {
  useAddWebhook,
  useDropWebhook,
  useChangeWebhook,
  useReplayWebhook,
  useTestWebhook,
  useWebhookCalls,
  useWebhooks,
} from './queries';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {CopyButton} from '../../design/CopyButton';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {plural} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {font, space} from '../../design/tokens';

type Webhook = Schemas['Webhook'];

const Form = styled.form`
  display: grid;
  gap: ${space.s};
  max-width: 560px;
  margin-top: ${space.m};
`;
const Row = styled.span`
  display: flex;
  gap: ${space.s};
  flex-wrap: wrap;
  align-items: center;
`;
const Mono = styled.code`
  font: 12px ${font.mono};
  overflow-wrap: anywhere;
  white-space: normal;
`;
const time = (text?: string | null) => (text ? text.slice(0, 19).replace('T', ' ') : '');

export function WebhooksCard({tenant}: {tenant: string}) {
  const hooks = useWebhooks(tenant);
  const [adding, setAdding] = useState(false);
  const [open, setOpen] = useState<number | null>(null);
  const chosen = hooks.data?.find((each) => each.id === open);
  return (
    <Card
      title="Webhooks"
      note="told at once what happens: a watch ended, a proof was lost; signed, and tried again for two days"
      actions={<Button onPress={() => setAdding(true)}>Add a webhook</Button>}
    >
      {hooks.isPending && <Loading what="webhooks" />}
      {hooks.error && <Trouble error={hooks.error} again={() => void hooks.refetch()} />}
      {hooks.data?.length === 0 && !adding && (
        <Notice title="Nobody is told">Add the address of a program that should know at once.</Notice>
      )}
      {hooks.data && hooks.data.length > 0 && (
        <DataTable
          label="Webhooks"
          columns={[
            {name: 'Name', value: (row: Webhook) => row.name},
            {name: 'Address', value: (row) => row.url, show: (row) => <Mono>{row.url}</Mono>},
            {name: 'Is told', value: (row) => row.subjects.join(', ') || 'everything'},
            {
              name: 'Last answer',
              value: (row) => row.last_response,
              show: (row) => <span title={time(row.last_at)}>{row.last_response || <Soft>not called yet</Soft>}</span>,
            },
            {name: 'Waiting', value: (row) => row.waiting, number: true},
            {
              name: 'Given up',
              value: (row) => row.dead,
              number: true,
              show: (row) => (row.dead ? <Tag level="fault">{row.dead}</Tag> : 0),
            },
            {
              name: '',
              value: (row) => (row.paused ? 'paused' : ''),
              show: (row) => (row.paused ? <Tag level="note">paused</Tag> : ''),
            },
            {
              name: 'Calls',
              value: () => '',
              tool: true,
              show: (row) => (
                <Button tone="link" onPress={() => setOpen(open === row.id ? null : row.id)}>
                  {open === row.id ? 'Close' : 'Open'}
                </Button>
              ),
            },
          ]}
          rows={hooks.data}
          id={(row) => String(row.id)}
          file={`webhooks-${tenant}.csv`}
        />
      )}
      {adding && <AddForm tenant={tenant} onDone={() => setAdding(false)} />}
      {chosen && <Calls tenant={tenant} hook={chosen} />}
    </Card>
  );
}

function AddForm({tenant, onDone}: {tenant: string; onDone: () => void}) {
  const add = useAddWebhook(tenant);
  const [name, setName] = useState('');
  const [url, setUrl] = useState('');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    add.mutate({name: name.trim(), url: url.trim(), subjects: []});
  };
  if (add.data) {
    return (
      <Notice title="Its secret, shown this once">
        <p>
          <Mono>{add.data.secret}</Mono> <CopyButton value={add.data.secret}>Copy the secret</CopyButton>
        </p>
        <p>
          Check with it that a call is ours: HMAC-SHA256 over id, time and body, in the open Standard Webhooks form.
        </p>
        <Button onPress={onDone}>I have it</Button>
      </Notice>
    );
  }
  return (
    <Form onSubmit={submit}>
      <Field label="Name" value={name} onChange={setName} placeholder="ticket desk" isRequired />
      <Field
        label="Address"
        mono
        value={url}
        onChange={setUrl}
        placeholder="https://desk.glasswort.example/rust-gauge"
        isRequired
      />
      <Row>
        <Button type="submit" tone="main" isDisabled={add.isPending}>
          Add it
        </Button>
        <Button onPress={onDone}>Leave it</Button>
      </Row>
      {add.error && <Trouble error={add.error} />}
    </Form>
  );
}

function Calls({tenant, hook}: {tenant: string; hook: Webhook}) {
  const calls = useWebhookCalls(tenant, hook.id);
  const test = useTestWebhook(tenant);
  const change = useChangeWebhook(tenant);
  const replay = useReplayWebhook(tenant);
  const drop = useDropWebhook(tenant);
  return (
    <section aria-label={`Calls of ${hook.name}`} style={{marginTop: 16, display: 'grid', gap: 8}}>
      <Row>
        <b>{hook.name}</b>
        <Button onPress={() => test.mutate(hook.id)} isDisabled={test.isPending || hook.paused}>
          Call it now
        </Button>
        <Button onPress={() => change.mutate({id: hook.id, body: {paused: !hook.paused}})}>
          {hook.paused ? 'Let it go on' : 'Pause it'}
        </Button>
        {hook.dead > 0 && <Button onPress={() => replay.mutate(hook.id)}>Try {plural(hook.dead, 'call')} anew</Button>}
        <Button tone="link" onPress={() => drop.mutate(hook.id)}>
          Forget it
        </Button>
        {test.data && (
          <Small role="status">
            {test.data.state}: {test.data.summary}
          </Small>
        )}
      </Row>
      {[test, change, replay, drop].map((each, i) => each.error && <Trouble key={i} error={each.error} />)}
      {calls.data?.items.length === 0 && <Soft>It was not called yet.</Soft>}
      {calls.data && calls.data.items.length > 0 && (
        <DataTable
          label={`Calls of ${hook.name}`}
          columns={[
            {name: 'Made', value: (row: Schemas['WebhookCall']) => row.created_at, show: (row) => time(row.created_at)},
            {name: 'Subject', value: (row) => row.subject},
            {
              name: 'State',
              value: (row) => row.state,
              show: (row) => (
                <Tag level={row.state === 'delivered' ? 'right' : row.state === 'dead' ? 'fault' : 'risk'}>
                  {row.state === 'dead' ? 'given up' : row.state}
                </Tag>
              ),
            },
            {name: 'Tries', value: (row) => row.attempts, number: true},
            {name: 'Next try', value: (row) => row.next_at ?? '', show: (row) => time(row.next_at)},
            {name: 'Answer', value: (row) => row.response},
            {name: 'Id', value: (row) => row.id, show: (row) => <Mono>{row.id}</Mono>},
          ]}
          rows={calls.data.items}
          id={(row) => row.id}
          file={`webhook-${hook.id}-calls.csv`}
        />
      )}
    </section>
  );
}
