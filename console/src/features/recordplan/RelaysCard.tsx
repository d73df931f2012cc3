/** The tenant's relays: what each is, wants published and allows; and a form to say so. */
import {useState, type FormEvent} from 'react';
import type {Schemas} from '../../api/client';
import {useDescribeRelay, useRelays} from './queries';
import {Button} from '../../design/Button';
import {CheckField} from '../../design/CheckField';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {DataTable, type Column} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Rows, type RowValues} from '../../design/Rows';

type Relay = Schemas['Relay'];
type Description = Schemas['RelayDescription'];

const both = (...types: string[]) => types.map((value) => ({value, label: value}));
const hostFields = (label: string, value: string) => [
  {name: 'label' as const, label: 'Label', placeholder: label},
  {name: 'type' as const, label: 'Type', width: '110px', options: both('CNAME', 'MX')},
  {name: 'value' as const, label: 'Target', width: 'minmax(0, 3fr)', placeholder: value},
];
const LINES = [
  {name: 'bounce_watch', label: 'Bounces, watch line, %', hint: 'empty: 2'},
  {name: 'bounce_stop', label: 'Bounces, stop line, %', hint: 'empty: 5'},
  {name: 'complaint_watch', label: 'Complaints, watch line, %', hint: 'empty: 0.1'},
  {name: 'complaint_stop', label: 'Complaints, stop line, %', hint: 'empty: 0.3'},
] as const;
type Values<Name extends string> = RowValues<Name>;
/** A description as the form holds it: texts, and rows of texts. */
export interface Draft {
  name: string;
  own: boolean;
  hosts: Values<'ip' | 'helo'>[];
  include: string;
  networks: string;
  dkim: Values<'selector' | 'type' | 'value'>[];
  return_path: Values<'label' | 'type' | 'value'>[];
  tracking: Values<'label' | 'type' | 'value'>[];
  inbound: Values<'priority' | 'host'>[];
  limits: Values<'region' | 'per_second' | 'per_hour' | 'per_day' | 'streams' | 'restricted' | 'hold_back'>[];
  lines: Values<'bounce_watch' | 'bounce_stop' | 'complaint_watch' | 'complaint_stop'>;
  note: string;
}

const number = (value?: number | null) => (value == null ? '' : String(value));
const inPercent = (rate?: number | null) => (rate == null ? '' : String(Number((rate * 100).toFixed(6))));
const hostRow = (record?: Schemas['RelayRecord'] | null) =>
  record ? [{label: record.label, type: record.type ?? 'CNAME', value: record.value}] : [];

export const toDraft = (relay?: Relay): Draft => ({
  name: relay?.name ?? '',
  own: relay?.own ?? false,
  hosts: (relay?.hosts ?? []).map((each) => ({ip: each.ip, helo: each.helo ?? ''})),
  include: relay?.include ?? '',
  networks: (relay?.networks ?? []).join(' '),
  dkim: (relay?.dkim ?? []).map((each) => ({
    selector: each.selector,
    type: each.type ?? 'CNAME',
    value: each.value ?? '',
  })),
  return_path: hostRow(relay?.return_path),
  tracking: hostRow(relay?.tracking),
  inbound: (relay?.inbound ?? []).map((each) => ({priority: number(each.priority), host: each.host})),
  limits: (relay?.limits ?? []).map((each) => ({
    region: each.region ?? '',
    per_second: number(each.per_second),
    per_hour: number(each.per_hour),
    per_day: number(each.per_day),
    streams: each.streams.join(' '),
    restricted: each.restricted ? 'yes' : '',
    hold_back: each.hold_back ? 'yes' : '',
  })),
  lines: {
    bounce_watch: inPercent(relay?.lines?.bounce_watch),
    bounce_stop: inPercent(relay?.lines?.bounce_stop),
    complaint_watch: inPercent(relay?.lines?.complaint_watch),
    complaint_stop: inPercent(relay?.lines?.complaint_stop),
  },
  note: relay?.note ?? '',
});

// What is not a number goes to the service as it is: its answer names the field and what it expects.
const asNumber = (text: string): number | null => (text.trim() === '' ? null : numeric(text));
const asRate = (text: string): number | null =>
  text.trim() === '' ? null : Number.isNaN(Number(text)) ? numeric(text) : Number((Number(text) / 100).toFixed(8));
const numeric = (text: string): number => (Number.isNaN(Number(text)) ? (text as unknown as number) : Number(text));
const filled = <Row extends Record<string, string>>(rows: Row[], name: keyof Row) =>
  rows.filter((row) => row[name]!.trim());

function hostRecord(rows: Draft['tracking'], before?: Schemas['RelayRecord'] | null): Schemas['RelayRecord'] | null {
  const row = filled(rows, 'label')[0];
  if (!row) return null;
  return {
    label: row.label.trim(),
    type: row.type as 'CNAME',
    value: row.value.trim(),
    priority: before?.priority ?? 10,
    spf: before?.spf ?? '',
  };
}

/** The description; what the form does not show stays as it was. */
export function fromDraft(draft: Draft, before?: Relay): Description {
  return {
    own: draft.own,
    hosts: filled(draft.hosts, 'ip').map((row) => ({ip: row.ip.trim(), helo: row.helo.trim()})),
    include: draft.include.trim(),
    networks: draft.networks.split(/[\s,]+/).filter(Boolean),
    dkim: filled(draft.dkim, 'selector').map((row) => ({
      selector: row.selector.trim(),
      type: row.type as 'CNAME',
      value: row.value.trim(),
    })),
    return_path: hostRecord(draft.return_path, before?.return_path),
    tracking: hostRecord(draft.tracking, before?.tracking),
    inbound: filled(draft.inbound, 'host').map((row) => ({
      priority: asNumber(row.priority) ?? 10,
      host: row.host.trim(),
    })),
    limits: draft.limits
      .filter((row) => Object.values(row).some((value) => value.trim()))
      .map((row) => ({
        region: row.region.trim(),
        per_second: asNumber(row.per_second),
        per_hour: asNumber(row.per_hour),
        per_day: asNumber(row.per_day),
        streams: row.streams.split(/[\s,]+/).filter(Boolean),
        restricted: row.restricted === 'yes',
        hold_back: row.hold_back === 'yes',
      })),
    lines: {
      bounce_watch: asRate(draft.lines.bounce_watch),
      bounce_stop: asRate(draft.lines.bounce_stop),
      complaint_watch: asRate(draft.lines.complaint_watch),
      complaint_stop: asRate(draft.lines.complaint_stop),
    },
    note: draft.note.trim(),
  };
}

function allowed(relay: Relay): string {
  return relay.limits
    .map((each) =>
      [
        each.region,
        each.per_second != null && `${each.per_second.toLocaleString('en-GB')} per second`,
        each.per_hour != null && `${each.per_hour.toLocaleString('en-GB')} per hour`,
        each.per_day != null && `${each.per_day.toLocaleString('en-GB')} per day`,
        each.restricted && 'proven recipients only',
        each.streams.length > 0 && `for ${each.streams.join(', ')}`,
      ]
        .filter(Boolean)
        .join(', '),
    )
    .join('; ');
}

function ownLines(relay: Relay): string {
  const {bounce_watch, bounce_stop, complaint_watch, complaint_stop} = relay.lines;
  const said = (what: string, watch?: number | null, stop?: number | null) =>
    (watch != null || stop != null) && `${what} ${inPercent(watch) || 'default'} / ${inPercent(stop) || 'default'} %`;
  return [said('bounces', bounce_watch, bounce_stop), said('complaints', complaint_watch, complaint_stop)]
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
        <Button changes tone="link" onPress={() => setDraft(toDraft(row))}>
          Edit
        </Button>
      ),
    },
  ];
  return (
    <Card
      title="Relays"
      note="systems that send your mail; shared by all domains of the tenant"
      actions={
        <Button changes onPress={() => setDraft(toDraft())}>
          Add a relay
        </Button>
      }
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
        <FormGrid onSubmit={submit} aria-label="Relay" style={{marginTop: 12}}>
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
            hint="separated by spaces"
            mono
            value={draft.networks}
            onChange={(networks) => set({networks})}
            placeholder="192.0.2.40/29"
          />
          <Field label="Note" value={draft.note} onChange={(note) => set({note})} />
          <div data-wide>
            <CheckField label="Our own MTA" isSelected={draft.own} onChange={(own) => set({own})} />
          </div>
          <div data-wide>
            <Rows
              label="DKIM keys"
              hint="{domain} and {dashed} stand for the sending domain; the value of a TXT key can be empty"
              add="Add key"
              fields={[
                {name: 'selector', label: 'Selector', placeholder: 'df1'},
                {name: 'type', label: 'Type', width: '110px', options: both('CNAME', 'TXT')},
                {
                  name: 'value',
                  label: 'Target or record',
                  width: 'minmax(0, 3fr)',
                  placeholder: 'df1.{dashed}.keys.driftline.example',
                },
              ]}
              rows={draft.dkim}
              onChange={(dkim) => set({dkim})}
              most={20}
            />
          </div>
          <div data-wide>
            <Rows
              label="Return-path host"
              hint="below the sending domain"
              add="Add host"
              fields={hostFields('bounce', 'returns.driftline.example')}
              rows={draft.return_path}
              onChange={(return_path) => set({return_path})}
              most={1}
            />
          </div>
          <div data-wide>
            <Rows
              label="Tracking host"
              hint="below the sending domain"
              add="Add host"
              fields={hostFields('click', 'track.driftline.example')}
              rows={draft.tracking}
              onChange={(tracking) => set({tracking})}
              most={1}
            />
          </div>
          <div data-wide>
            <Rows
              label="Sending IPs"
              add="Add IP"
              fields={[
                {name: 'ip', label: 'IP address', placeholder: '192.0.2.41'},
                {name: 'helo', label: 'HELO name', width: 'minmax(0, 2fr)', placeholder: 'mta1.skerry.example'},
              ]}
              rows={draft.hosts}
              onChange={(hosts) => set({hosts})}
            />
          </div>
          <div data-wide>
            <Rows
              label="Inbound MX"
              add="Add MX"
              fields={[
                {name: 'priority', label: 'Priority', width: '110px', placeholder: '10'},
                {name: 'host', label: 'Host', placeholder: 'in1.driftline.example'},
              ]}
              rows={draft.inbound}
              onChange={(inbound) => set({inbound})}
              most={20}
            />
          </div>
          <div data-wide>
            <Rows
              label="Sending limits"
              hint="empty: no limit"
              add="Add limit"
              fields={[
                {name: 'region', label: 'Region', placeholder: 'all'},
                {name: 'per_second', label: 'Per second', width: '9ch', placeholder: '14'},
                {name: 'per_hour', label: 'Per hour', width: '11ch', placeholder: '5000'},
                {name: 'per_day', label: 'Per 24 hours', width: '13ch', placeholder: '50000'},
                {name: 'streams', label: 'Streams', placeholder: 'all'},
                {name: 'restricted', label: 'Proven recipients only', width: '180px', check: true},
                {name: 'hold_back', label: 'Clearance says later', width: '170px', check: true},
              ]}
              rows={draft.limits}
              onChange={(limits) => set({limits})}
              most={50}
            />
          </div>
          {LINES.map(({name, label, hint}) => (
            <Field
              key={name}
              label={label}
              hint={hint}
              mono
              value={draft.lines[name]}
              onChange={(text) => set({lines: {...draft.lines, [name]: text}})}
            />
          ))}
          <footer>
            <Button type="submit" tone="main" isDisabled={describe.isPending}>
              Save
            </Button>
            <Button onPress={() => setDraft(null)}>Cancel</Button>
          </footer>
        </FormGrid>
      )}
      {describe.error && <Trouble error={describe.error} />}
      {(relays.data ?? []).some((each) => !each.described) && (
        <Small>Plans use only the name of a relay without a description.</Small>
      )}
    </Card>
  );
}
