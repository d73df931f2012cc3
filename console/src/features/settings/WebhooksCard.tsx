/** Webhooks: who is called when something happens, and how each call went. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {
  useAddWebhook,
  useDropWebhook,
  useChangeWebhook,
  useReplayWebhook,
  useRotateSecret,
  useTestWebhook,
  useWebhookCalls,
  useWebhooks,
} from './queries';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {CopyButton} from '../../design/CopyButton';
import {Confirm} from '../../design/Confirm';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {plural, zoneName} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {font, space} from '../../design/tokens';

type Webhook = Schemas['Webhook'];

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
      note="signed calls when something happens, for example a watch ended or an item opened; retried for two days"
      actions={
        <Button changes onPress={() => setAdding(true)}>
          Add a webhook
        </Button>
      }
    >
      {hooks.isPending && <Loading what="webhooks" />}
      {hooks.error && <Trouble error={hooks.error} again={() => void hooks.refetch()} />}
      {hooks.data?.length === 0 && !adding && (
        <Notice title="No webhooks yet">Add the URL of a program that should be called when something happens.</Notice>
      )}
      {hooks.data && hooks.data.length > 0 && (
        <DataTable
          label="Webhooks"
          columns={[
            {name: 'Name', value: (row: Webhook) => row.name},
            {name: 'URL', value: (row) => row.url, show: (row) => <Mono>{row.url}</Mono>},
            {name: 'Subjects', value: (row) => row.subjects.join(', ') || 'all'},
            {
              name: 'Last response',
              value: (row) => row.last_response,
              show: (row) => <span title={time(row.last_at)}>{row.last_response || <Soft>not called yet</Soft>}</span>,
            },
            {name: 'Waiting', value: (row) => row.waiting, number: true},
            {
              name: 'Failed',
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
      <Notice title="Signing secret: copy it now, it is not shown again">
        <p>
          <Mono>{add.data.secret}</Mono> <CopyButton value={add.data.secret}>Copy</CopyButton>
        </p>
        <p>
          Use it to verify calls: HMAC-SHA256 over id, time and body, as the open Standard Webhooks specification
          defines it.
        </p>
        <Button onPress={onDone}>Close</Button>
      </Notice>
    );
  }
  return (
    <FormGrid onSubmit={submit}>
      <Field label="Name" value={name} onChange={setName} placeholder="ticket desk" isRequired />
      <Field
        label="URL"
        mono
        value={url}
        onChange={setUrl}
        placeholder="https://desk.glasswort.example/rust-gauge"
        isRequired
      />
      <footer>
        <Button type="submit" tone="main" isDisabled={add.isPending}>
          Add
        </Button>
        <Button onPress={onDone}>Cancel</Button>
      </footer>
      {add.error && <Trouble error={add.error} />}
    </FormGrid>
  );
}

function Calls({tenant, hook}: {tenant: string; hook: Webhook}) {
  const calls = useWebhookCalls(tenant, hook.id);
  const test = useTestWebhook(tenant);
  const change = useChangeWebhook(tenant);
  const replay = useReplayWebhook(tenant);
  const drop = useDropWebhook(tenant);
  const rotate = useRotateSecret(tenant);
  return (
    <section aria-label={`Calls of ${hook.name}`} style={{marginTop: 16, display: 'grid', gap: 8}}>
      <Row>
        <b>{hook.name}</b>
        <Button changes onPress={() => test.mutate(hook.id)} isDisabled={test.isPending || hook.paused}>
          Send test
        </Button>
        <Button changes onPress={() => change.mutate({id: hook.id, body: {paused: !hook.paused}})}>
          {hook.paused ? 'Resume' : 'Pause'}
        </Button>
        {hook.dead > 0 && (
          <Button changes onPress={() => replay.mutate(hook.id)}>
            Retry {plural(hook.dead, 'failed call')}
          </Button>
        )}
        <Confirm
          label="New secret"
          title={`Give ${hook.name} a new secret?`}
          action="Make a new secret"
          onConfirm={() => rotate.mutate(hook.id)}
        >
          Calls are signed with both secrets for 24 hours, so that the receiver can change over.
        </Confirm>
        <Confirm
          label="Delete"
          title={`Delete the webhook ${hook.name}?`}
          action="Delete"
          onConfirm={() => drop.mutate(hook.id)}
        >
          It is no longer called, and its list of calls is deleted.
        </Confirm>
        {test.data && (
          <Small role="status">
            {test.data.state}: {test.data.response}
          </Small>
        )}
      </Row>
      {rotate.data && (
        <Notice title="New signing secret: copy it now, it is not shown again">
          <Mono>{rotate.data.secret}</Mono> <CopyButton value={rotate.data.secret}>Copy</CopyButton>
          <span>
            The secret before stays valid until {time(rotate.data.previous_until)} {zoneName()}.
          </span>
        </Notice>
      )}
      {[test, change, replay, drop, rotate].map((each, i) => each.error && <Trouble key={i} error={each.error} />)}
      {calls.data?.items.length === 0 && <Soft>Not called yet.</Soft>}
      {calls.data && calls.data.items.length > 0 && (
        <DataTable
          label={`Calls of ${hook.name}`}
          columns={[
            {
              name: 'Created',
              value: (row: Schemas['WebhookCall']) => row.created_at,
              show: (row) => time(row.created_at),
            },
            {name: 'Subject', value: (row) => row.subject},
            {
              name: 'State',
              value: (row) => row.state,
              show: (row) => (
                <Tag level={row.state === 'delivered' ? 'right' : row.state === 'dead' ? 'fault' : 'risk'}>
                  {row.state === 'dead' ? 'failed' : row.state}
                </Tag>
              ),
            },
            {name: 'Attempts', value: (row) => row.attempts, number: true},
            {name: 'Next attempt', value: (row) => row.next_at ?? '', show: (row) => time(row.next_at)},
            {name: 'Response', value: (row) => row.response},
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
