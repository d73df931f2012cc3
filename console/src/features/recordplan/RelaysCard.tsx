/** The tenant's relays: what each is, wants published and allows; and a form to say so. */
import {useState, type FormEvent} from 'react';
import {Checkbox} from 'react-aria-components';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useDescribeRelay, useRelays} from './queries';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {DataTable, type Column} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {colour, space} from '../../design/tokens';

type Relay = Schemas['Relay'];
type Description = Schemas['RelayDescription'];

const Form = styled.form`
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(240px, 1fr));
  gap: ${space.m};
  border-top: 1px solid ${colour('line')};
  margin-top: ${space.m};
  padding-top: ${space.m};
  align-items: start;
  [data-wide] {
    grid-column: 1 / -1;
    display: flex;
    gap: ${space.s};
    align-items: center;
  }
`;

/** A description as lines that people type, and back. */
export interface Draft {
  name: string;
  own: boolean;
  hosts: string;
  include: string;
  networks: string;
  dkim: string;
  return_path: string;
  tracking: string;
  inbound: string;
  limits: string;
  bounces: string;
  complaints: string;
}

const hostLine = (record?: Schemas['RelayRecord'] | null) =>
  record ? `${record.label} ${record.type} ${record.value}` : '';

export const toDraft = (relay?: Relay): Draft => ({
  name: relay?.name ?? '',
  own: relay?.own ?? false,
  hosts: (relay?.hosts ?? []).map((each) => [each.ip, each.helo].filter(Boolean).join(' ')).join('\n'),
  include: relay?.include ?? '',
  networks: (relay?.networks ?? []).join(' '),
  dkim: (relay?.dkim ?? []).map((each) => [each.selector, each.type, each.value].filter(Boolean).join(' ')).join('\n'),
  return_path: hostLine(relay?.return_path),
  tracking: hostLine(relay?.tracking),
  inbound: (relay?.inbound ?? []).map((each) => `${each.priority} ${each.host}`).join('\n'),
  limits: (relay?.limits ?? [])
    .map((each) =>
      [each.region || '-', each.per_hour ?? '-', each.per_day ?? '-', each.trial && 'trial'].filter(Boolean).join(' '),
    )
    .join('\n'),
  bounces: percents(relay?.lines?.bounce_watch, relay?.lines?.bounce_stop),
  complaints: percents(relay?.lines?.complaint_watch, relay?.lines?.complaint_stop),
});

/** A watch and a stop line as people type them, in per cent; `-` stands for default one. */
function percents(watch?: number | null, stop?: number | null): string {
  const shown = (rate?: number | null) => (rate == null ? '-' : String(Number((rate * 100).toFixed(6))));
  return watch == null && stop == null ? '' : `${shown(watch)} ${shown(stop)}`;
}

function rates(text: string): [number | null, number | null] {
  const read = (word?: string) =>
    word && !Number.isNaN(Number(word.replace('%', '')))
      ? Number((Number(word.replace('%', '')) / 100).toFixed(8))
      : null;
  const [watch, stop] = text.trim().split(/\s+/);
  return [read(watch), read(stop)];
}

const whole = (word?: string): number | null => Number(word) || null;

const lines = (text: string) =>
  text
    .split('\n')
    .map((line) => line.trim().split(/\s+/))
    .filter((words) => words[0]);

function hostRecord(text: string): Schemas['RelayRecord'] | null {
  const [label, second, ...rest] = text.trim().split(/\s+/);
  if (!label) return null;
  const type = second?.toUpperCase() === 'MX' ? 'MX' : 'CNAME';
  const value = ['MX', 'CNAME'].includes(second?.toUpperCase() ?? '') ? rest.join(' ') : (second ?? '');
  return {label, type, value, priority: 10, spf: ''};
}

/** The description; what the form does not show stays as it was. */
export function fromDraft(draft: Draft, before?: Relay): Description {
  const [bounce_watch, bounce_stop] = rates(draft.bounces);
  const [complaint_watch, complaint_stop] = rates(draft.complaints);
  return {
    own: draft.own,
    hosts: lines(draft.hosts).map(([ip, helo]) => ({ip: ip!, helo: helo ?? ''})),
    include: draft.include.trim(),
    networks: draft.networks.split(/\s+/).filter(Boolean),
    dkim: lines(draft.dkim).map(([selector, type, ...value]) =>
      type?.toUpperCase() === 'TXT'
        ? {selector: selector!, type: 'TXT', value: value.join(' ')}
        : {
            selector: selector!,
            type: 'CNAME',
            value: (type?.toUpperCase() === 'CNAME' ? value : [type ?? '', ...value]).join(''),
          },
    ),
    return_path: hostRecord(draft.return_path),
    tracking: hostRecord(draft.tracking),
    inbound: lines(draft.inbound).map((words) => ({priority: Number(words[0]) || 0, host: words.at(-1)!})),
    limits: lines(draft.limits).map(([region, hour, day, trial]) => ({
      region: region === '-' ? '' : region!,
      per_hour: whole(hour),
      per_day: whole(day),
      trial: trial === 'trial',
    })),
    lines: {bounce_watch, bounce_stop, complaint_watch, complaint_stop},
    note: before?.note ?? '',
  };
}

function allowed(relay: Relay): string {
  return relay.limits
    .map((each) =>
      [
        each.region,
        each.per_hour != null && `${each.per_hour.toLocaleString('en-GB')} an hour`,
        each.per_day != null && `${each.per_day.toLocaleString('en-GB')} a day`,
        each.trial && 'in a sandbox',
      ]
        .filter(Boolean)
        .join(' '),
    )
    .join('; ');
}

function ownLines(relay: Relay): string {
  const {bounce_watch, bounce_stop, complaint_watch, complaint_stop} = relay.lines;
  const said = (what: string, text: string) => text && `${what} ${text.replace(' ', ' / ')} %`;
  return [
    said('bounces', percents(bounce_watch, bounce_stop)),
    said('complaints', percents(complaint_watch, complaint_stop)),
  ]
    .filter(Boolean)
    .join('; ');
}

function wants(relay: Relay): string {
  return [
    relay.include && `include:${relay.include}`,
    ...relay.networks,
    ...relay.hosts.map((each) => each.ip),
    relay.dkim.length > 0 && `keys ${relay.dkim.map((each) => each.selector).join(', ')}`,
    relay.return_path && `${relay.return_path.label} ${relay.return_path.type}`,
    relay.tracking && `${relay.tracking.label} ${relay.tracking.type}`,
    relay.inbound.length > 0 && `${relay.inbound.length} MX`,
  ]
    .filter(Boolean)
    .join(' · ');
}

export function RelaysCard({tenant}: {tenant: string}) {
  const relays = useRelays(tenant);
  const describe = useDescribeRelay(tenant);
  const [draft, setDraft] = useState<Draft | null>(null);
  const before = relays.data?.find((each) => each.name === draft?.name.trim());
  const set = (part: Partial<Draft>) => setDraft((now) => (now ? {...now, ...part} : now));
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (draft)
      describe.mutate({relay: draft.name.trim(), body: fromDraft(draft, before)}, {onSuccess: () => setDraft(null)});
  };
  const columns: Column<Relay>[] = [
    {
      name: 'Relay',
      value: (row) => row.name,
      show: (row) => (
        <>
          {row.name} {!row.described && <Tag level="note">not described</Tag>}
        </>
      ),
    },
    {name: 'Kind', value: (row) => (row.own ? 'own MTA' : row.described ? 'contracted' : '')},
    {
      name: 'Requires',
      value: wants,
      show: (row) => <span style={{whiteSpace: 'normal'}}>{wants(row) || <Soft>nothing</Soft>}</span>,
    },
    {
      name: 'Lines',
      value: ownLines,
      show: (row) => <span style={{whiteSpace: 'normal'}}>{ownLines(row) || <Soft>default</Soft>}</span>,
    },
    {name: 'Limits', value: allowed, show: (row) => <span style={{whiteSpace: 'normal'}}>{allowed(row)}</span>},
    {
      name: '',
      value: () => '',
      tool: true,
      show: (row) => (
        <Button tone="link" onPress={() => setDraft(toDraft(row))}>
          Edit
        </Button>
      ),
    },
  ];
  return (
    <Card
      title="Relays"
      note="systems that send your mail; shared by all domains of the tenant"
      actions={<Button onPress={() => setDraft(toDraft())}>Add a relay</Button>}
    >
      {relays.isPending && <Loading what="relays" />}
      {relays.error && <Trouble error={relays.error} again={() => void relays.refetch()} />}
      {relays.data?.length === 0 && (
        <Notice title="No relays yet">Add the MTA or service that sends your mail and the records it requires.</Notice>
      )}
      {relays.data && relays.data.length > 0 && (
        <DataTable
          label="Relays"
          columns={columns}
          rows={relays.data}
          id={(row) => row.name}
          file={`relays-${tenant}.csv`}
        />
      )}
      {draft && (
        <Form onSubmit={submit}>
          <Field label="Relay" value={draft.name} onChange={(name) => set({name})} placeholder="driftline" isRequired />
          <Field
            label="SPF include"
            mono
            value={draft.include}
            onChange={(include) => set({include})}
            placeholder="spf.driftline.example"
          />
          <Field
            label="Networks for SPF"
            mono
            value={draft.networks}
            onChange={(networks) => set({networks})}
            placeholder="192.0.2.40/29"
          />
          <Field
            label="IPs with their HELO names"
            mono
            lines={3}
            value={draft.hosts}
            onChange={(hosts) => set({hosts})}
            placeholder="192.0.2.41 mta1.skerry.example"
          />
          <Field
            label="DKIM keys: selector, CNAME or TXT, target or record"
            hint="{domain} and {dashed} stand for the sending domain"
            mono
            lines={3}
            value={draft.dkim}
            onChange={(dkim) => set({dkim})}
            placeholder={'df1 CNAME df1.{dashed}.keys.driftline.example\ncb1 TXT'}
          />
          <Field
            label="Inbound MX: priority and host"
            mono
            lines={3}
            value={draft.inbound}
            onChange={(inbound) => set({inbound})}
            placeholder="10 in1.driftline.example"
          />
          <Field
            label="Return-path host: label, type, target"
            mono
            value={draft.return_path}
            onChange={(return_path) => set({return_path})}
            placeholder="bounce MX returns.driftline.example"
          />
          <Field
            label="Tracking host: label, type, target"
            mono
            value={draft.tracking}
            onChange={(tracking) => set({tracking})}
            placeholder="click CNAME track.driftline.example"
          />
          <Field
            label="Sending limits: region, per hour, per day"
            hint="one region per line; - for no limit; add trial while only verified recipients may be mailed"
            mono
            lines={3}
            value={draft.limits}
            onChange={(limits) => set({limits})}
            placeholder={'- 5000 50000\nnorth 200 2000 trial'}
          />
          <Field
            label="Bounce lines: watch and stop, %"
            hint="empty: defaults 2 and 5"
            mono
            value={draft.bounces}
            onChange={(bounces) => set({bounces})}
            placeholder="2 5"
          />
          <Field
            label="Complaint lines: watch and stop, %"
            hint="empty: defaults 0.1 and 0.3"
            mono
            value={draft.complaints}
            onChange={(complaints) => set({complaints})}
            placeholder="0.1 0.3"
          />
          <div data-wide>
            <Checkbox isSelected={draft.own} onChange={(own) => set({own})}>
              {({isSelected}) => <>{isSelected ? '☑' : '☐'} our own MTA</>}
            </Checkbox>
          </div>
          <div data-wide>
            <Button type="submit" tone="main" isDisabled={describe.isPending}>
              Save
            </Button>
            <Button onPress={() => setDraft(null)}>Cancel</Button>
          </div>
        </Form>
      )}
      {describe.error && <Trouble error={describe.error} />}
      {(relays.data ?? []).some((each) => !each.described) && (
        <Small>Plans use only the name of a relay without a description.</Small>
      )}
    </Card>
  );
}
