/** What happened to this person's mail, or this message: every event with the raw reply, in order. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useFlowSettings, useProviders, useTrail, type TrailSearch} from './queries';
import {Button} from '../../design/Button';
import {CheckField} from '../../design/CheckField';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {count, inZone, stamp, words} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {font, space} from '../../design/tokens';
import {useView} from '../../shell/view';
import {CAUSES} from './causes';

type Event = Schemas['Event'];

const Form = styled.form`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s} ${space.m};
  align-items: end;
  margin-bottom: ${space.m};
  > :first-child {
    flex: 1 1 320px;
  }
`;
const Reply = styled.code`
  font: 12px/1.4 ${font.mono};
  white-space: normal;
  overflow-wrap: anywhere;
  display: block;
  min-width: 28ch;
`;
const Mono = styled.span`
  font: 12px ${font.mono};
`;

const LEVELS: Partial<Record<Event['kind'], 'right' | 'risk' | 'fault' | 'note'>> = {
  delivered: 'right',
  opened: 'right',
  clicked: 'right',
  delayed: 'risk',
  bounced: 'fault',
  complained: 'fault',
  withheld: 'note',
  unsubscribed: 'note',
  accepted: 'note',
};
const MEANING: Record<Event['kind'], string> = {
  accepted: 'accepted for delivery by the relay',
  delivered: 'accepted by the mailbox provider; not necessarily seen',
  delayed: 'deferred; will be retried',
  bounced: 'not delivered',
  complained: 'reported as spam by the recipient',
  unsubscribed: 'unsubscribed',
  opened: 'an image was loaded, by a person or a machine',
  clicked: 'a link was followed, by a person or a machine',
  withheld: 'not sent because the address is suppressed; not a bounce',
};

/** What an event means; of a bounce also whether another message may get through. */
const meaningOf = (event: Event): string =>
  event.kind === 'bounced' && event.permanence === 'permanent'
    ? 'failed permanently'
    : event.kind === 'bounced' && event.permanence === 'transient'
      ? 'given up for this message; a later one may get through'
      : MEANING[event.kind];

const SINCE = [
  {value: 'weeks', label: 'Recent weeks'},
  {value: '1', label: 'Last hour'},
  {value: '24', label: 'Last day'},
  {value: '168', label: 'Last 7 days'},
  {value: '2160', label: 'Last 90 days'},
  {value: 'moment', label: 'Custom'},
];
const sinceOf = (hours: string, now = Date.now()): string =>
  new Date(now - Number(hours) * 3_600_000).toISOString().slice(0, 19) + 'Z';
/** Which of the choices a moment is; `moment` when it is none. */
export function sinceChoice(since: string, now = Date.now()): string {
  if (!since) return 'weeks';
  const hours = (now - Date.parse(since)) / 3_600_000;
  return (
    ['1', '24', '168', '2160'].find((each) => hours >= Number(each) - 0.01 && hours < Number(each) + 0.75) ?? 'moment'
  );
}

/** What is typed, as what is looked for: an address, a message id, or words of a reply. */
export function searchOf(text: string): TrailSearch {
  const typed = text.trim();
  if (!typed) return {};
  if (/^<.+>$/.test(typed)) return {message_id: typed.slice(1, -1)};
  if (/^\S+@\S+\.\S+$/.test(typed))
    return /\d.*@|@.*\d/.test(typed) && typed.split('@')[0]!.length > 24 ? {message_id: typed} : {recipient: typed};
  return {reply: typed};
}

export function TrailsView({tenant, domain}: {tenant: string; domain: string}) {
  const view = useView();
  const asked = view.get('find');
  const [text, setText] = useState(asked);
  const [live, setLive] = useState(false);
  const providers = useProviders(tenant);
  const kept = useFlowSettings(tenant).data?.keep_events_days;
  const listed = (name: string) => view.get(name).split(',').filter(Boolean);
  const search: TrailSearch = {
    ...searchOf(asked),
    domain: domain || undefined,
    kind: listed('kind') as Event['kind'][],
    cause: listed('cause') as Event['cause'][],
    provider: view.get('provider') || undefined,
    stream: view.get('stream') || undefined,
    relay: view.get('relay') || undefined,
    ip: view.get('ip') || undefined,
    since: view.get('since') || undefined,
    until: view.get('until') || undefined,
  };
  const narrowed = ['kind', 'cause', 'provider', 'stream', 'relay', 'ip', 'since', 'until'].filter((name) =>
    view.get(name),
  );
  const trail = useTrail(tenant, search, live);
  const one = Boolean(search.recipient || search.message_id);
  const rows = one ? [...(trail.data?.items ?? [])].reverse() : (trail.data?.items ?? []);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    view.go('find', text.trim());
  };
  const follow = (what: string) => {
    setText(what);
    view.go('find', what);
  };
  return (
    <Card
      title={one ? `Trail of ${asked}` : asked ? `Replies with “${asked}”` : 'Recent events'}
      note={one ? 'oldest first' : 'newest first'}
    >
      <Form onSubmit={submit}>
        <Field
          label="Address, <message id> or words of a reply"
          mono
          value={text}
          onChange={setText}
          placeholder="kim@tidepost.example"
        />
        <Button type="submit" needs="viewer" tone="main">
          Find
        </Button>
        {asked && <Button onPress={() => follow('')}>All mail</Button>}
        <Choice
          label="Kind"
          value={view.get('kind') || 'all'}
          options={[
            {value: 'all', label: 'All kinds'},
            ...Object.keys(MEANING).map((value) => ({value, label: value})),
          ]}
          shown={listed('kind').length > 1 ? listed('kind').join(', ') : undefined}
          onChange={(value) => view.set('kind', value === 'all' ? '' : value)}
        />
        <Choice
          label="Cause"
          value={view.get('cause') || 'all'}
          options={[
            {value: 'all', label: 'All causes'},
            ...[...CAUSES, 'unclassified'].map((value) => ({value, label: words(value)})),
          ]}
          shown={listed('cause').length > 1 ? `${listed('cause').length} causes` : undefined}
          onChange={(value) => view.set('cause', value === 'all' ? '' : value)}
        />
        <Choice
          label="Provider"
          value={view.get('provider') || 'all'}
          options={[
            {value: 'all', label: 'All providers'},
            ...(providers.data ?? []).map((each) => ({value: each.provider, label: each.label})),
          ]}
          onChange={(value) => view.set('provider', value === 'all' ? '' : value)}
        />
        <Choice
          label="Since"
          value={sinceChoice(view.get('since'))}
          options={SINCE}
          onChange={(value) => view.set('since', value === 'weeks' ? '' : sinceOf(value))}
        />
        <CheckField label="Follow" isSelected={live} onChange={setLive} />
      </Form>
      {narrowed.length > 0 && (
        <p style={{fontSize: 12}}>
          Filtered by{' '}
          {narrowed.map((name) => `${name} ${view.get(name).replaceAll(',', ', ').replaceAll('_', ' ')}`).join('; ')}{' '}
          <Button tone="link" onPress={() => view.clear(...narrowed)}>
            Clear filter
          </Button>
        </p>
      )}
      {trail.isPending && <Loading what="events" />}
      {trail.error && <Trouble error={trail.error} />}
      {trail.data && rows.length === 0 && (
        <Notice title="No events">
          {asked
            ? 'No stored event matches. Check the spelling, or choose an earlier start.'
            : `No stored event matches these filters. Events are deleted ${kept ? `after ${count(kept)} days` : 'after some time'}, but counters stay: charts can show mail that has no events.`}
        </Notice>
      )}
      {rows.length > 0 && (
        <DataTable
          label="Events"
          columns={[
            {
              name: inZone('Time'),
              value: (row: Event) => row.time,
              show: (row) => <Mono>{stamp(row.time)}</Mono>,
            },
            {
              name: 'Event',
              value: (row) => row.kind,
              show: (row) => (
                <span title={meaningOf(row)}>
                  <Tag level={LEVELS[row.kind] ?? 'note'}>{row.kind}</Tag>
                </span>
              ),
            },
            {
              name: 'Recipient',
              value: (row) => row.recipient,
              show: (row) => (
                <Button tone="link" onPress={() => follow(row.recipient)}>
                  <Mono>{row.recipient}</Mono>
                </Button>
              ),
            },
            {
              name: 'Cause and reply',
              value: (row) => row.diagnostic,
              show: (row) => (
                <>
                  {row.cause !== 'none' && (
                    <>
                      {words(row.cause)}, {row.permanence} <Small>by {row.cause_rule}</Small>
                    </>
                  )}
                  <Reply>{row.diagnostic}</Reply>
                  {one && <Small>{meaningOf(row)}</Small>}
                </>
              ),
            },
            {
              name: 'Sent by',
              value: (row) => `${row.stream} ${row.relay}`,
              show: (row) => <Soft title={row.sender_lacks}>{[row.stream, row.relay].filter(Boolean).join(', ')}</Soft>,
            },
            {
              name: 'Message',
              value: (row) => row.message_id,
              show: (row) =>
                row.message_id && (
                  <Button tone="link" onPress={() => follow(`<${row.message_id}>`)}>
                    <Mono>{row.message_id.slice(0, 22)}</Mono>
                  </Button>
                ),
            },
          ]}
          rows={rows}
          id={(row) => `${row.time} ${row.kind} ${row.recipient} ${row.message_id} ${row.attempt}`}
          file={`trail-${tenant}.csv`}
        />
      )}
      {trail.data?.next && <Small>Showing the newest 200.</Small>}
    </Card>
  );
}
