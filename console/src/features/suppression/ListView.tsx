/** The list itself: found as one types, one address with all that happened to it, lifting, and what waits for a decision. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {
  useAddressStatus,
  useDecide,
  useHold,
  useLift,
  useSuppression,
  useSuppressionCount,
  type Listed,
} from './queries';
import {Button, Go} from '../../design/Button';
import {CheckField} from '../../design/CheckField';
import {Card, Small, Tag} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {DataTable, type Column} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {ago, count, day, inZone, time, words} from '../../design/format';
import {useMay} from '../../design/may';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {useSelection} from '../../design/selection';
import {font, space} from '../../design/tokens';
import {useView} from '../../shell/view';
import {SelectedEntries} from './SelectedEntries';
import {change, scope, REASONS, shownAddress} from './words';

type Entry = Schemas['SuppressionEntry'];

const Grid = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 320px;
  gap: ${space.m};
  align-items: start;
  @media (max-width: 1100px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;
const Bar = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s};
  align-items: end;
  margin-bottom: ${space.s};
  > :first-child {
    flex: 1 1 240px;
  }
`;
const Mono = styled.span`
  font: 12px ${font.mono};
`;
const Reply = styled.span`
  display: -webkit-box;
  -webkit-line-clamp: 3;
  -webkit-box-orient: vertical;
  overflow: hidden;
  font: 12px/1.35 ${font.mono};
  white-space: normal;
  overflow-wrap: anywhere;
  min-width: 24ch;
`;
const Stack = styled.div`
  display: grid;
  gap: ${space.m};
  grid-template-columns: minmax(0, 1fr);
`;

const SHOWN: {value: string; label: string; listed: Listed}[] = [
  {value: 'held', label: 'Held', listed: {state: ['held']}},
  {value: 'proposed', label: 'Proposed', listed: {state: ['proposed']}},
  {value: 'ending', label: 'Ending within 14 days', listed: {ends_within_days: 14}},
  {value: 'back', label: 'Returned', listed: {came_back: true}},
  {value: 'ended', label: 'Ended or lifted', listed: {state: ['ended']}},
  {value: 'resting', label: 'Resting', listed: {state: ['resting']}},
];

export function ListView({tenant}: {tenant: string}) {
  const view = useView();
  const text = view.get('text');
  const shown = view.get('shown') || 'held';
  const reason = view.get('reason');
  const address = view.get('address');
  const listed: Listed = {
    ...(SHOWN.find((each) => each.value === shown) ?? SHOWN[0]!).listed,
    text,
    reason: reason ? [reason as Entry['reason']] : undefined,
  };
  const list = useSuppression(tenant, listed);
  const total = useSuppressionCount(tenant, listed);
  const rows = list.data?.pages.flatMap((page) => page.items) ?? [];
  const selection = useSelection(rows.map((row) => row.id));
  const liftable = useMay() && shown === 'held';
  const columns: Column<Entry>[] = [
    {
      name: 'Address',
      value: (row) => row.address || row.address_key,
      show: (row) => (
        <Button tone="link" onPress={() => view.go('address', row.address)} isDisabled={!row.address}>
          <Mono>{shownAddress(row)}</Mono>
        </Button>
      ),
    },
    {
      name: 'Reason',
      value: (row) => `${words(row.reason)}, ${scope(row)}`,
      show: (row) => (
        <>
          {words(row.reason)}
          <Small style={{display: 'block'}}>{scope(row)}</Small>
        </>
      ),
    },
    {name: 'Since', value: (row) => row.since, show: (row) => <span title={time(row.since)}>{ago(row.since)}</span>},
    {
      name: 'Until',
      value: (row) => row.until ?? '',
      show: (row) => (row.until ? <span title={time(row.until)}>{day(row.until)}</span> : 'no end'),
    },
    {
      name: 'Count',
      value: (row) => row.times,
      show: (row) => `${count(row.times)}${row.returns ? `, returned ${row.returns}×` : ''}`,
      number: true,
    },
    {
      name: 'Reply',
      value: (row) => row.note,
      show: (row) => <Reply title={row.note}>{row.note || row.evidence[0]?.diagnostic || row.made_by}</Reply>,
    },
  ];
  return (
    <Grid>
      <Card
        title="Suppression list"
        note={total.data ? `${total.data.more ? 'more than ' : ''}${count(total.data.count)} entries` : ''}
      >
        <Bar>
          <Field
            label="Address begins with, or @domain"
            mono
            value={text}
            onChange={(value) => view.set('text', value)}
            placeholder="ann or @tidepost"
          />
          <Choice
            label="State"
            value={shown}
            options={SHOWN}
            onChange={(value) => view.set('shown', value === 'held' ? '' : value)}
          />
          <Choice
            label="Reason"
            value={reason || 'any'}
            options={[{value: 'any', label: 'All reasons'}, ...REASONS]}
            onChange={(value) => view.set('reason', value === 'any' ? '' : value)}
          />
        </Bar>
        {list.isPending && <Loading what="the list" />}
        {list.error && <Trouble error={list.error} again={() => void list.refetch()} />}
        {list.data && rows.length === 0 && (
          <Notice title={text || reason || shown !== 'held' ? 'No matching entries' : 'The list is empty'}>
            {text || reason || shown !== 'held'
              ? 'Broaden the search.'
              : 'Invalid addresses, complaints and unsubscribes are added automatically as events arrive. A list that you have can be imported.'}
            {!(text || reason || shown !== 'held') && (
              <Go to={`/suppression?tenant=${tenant}&view=import-export`}>Import a list</Go>
            )}
          </Notice>
        )}
        {rows.length > 0 &&
          (shown === 'proposed' ? (
            <Proposals tenant={tenant} rows={rows} columns={columns} />
          ) : (
            <>
              {liftable && <SelectedEntries tenant={tenant} selection={selection} rows={rows} />}
              <DataTable
                label="Suppression list"
                columns={columns}
                rows={rows}
                id={(row) => row.id}
                file={`suppression-${tenant}.csv`}
                selection={liftable ? selection : undefined}
              />
            </>
          ))}
        {list.hasNextPage && (
          <Button onPress={() => void list.fetchNextPage()} isDisabled={list.isFetchingNextPage}>
            Show 100 more
          </Button>
        )}
      </Card>
      <Stack>
        {address ? <AddressCard tenant={tenant} address={address} /> : <LookUp />}
        <HoldCard tenant={tenant} />
      </Stack>
    </Grid>
  );
}

function LookUp() {
  const view = useView();
  const [text, setText] = useState('');
  const look = (event: FormEvent) => {
    event.preventDefault();
    view.go('address', text.trim());
  };
  return (
    <Card title="Address status" note="its entries and history">
      <form onSubmit={look}>
        <Bar>
          <Field
            label="Address, or @domain"
            mono
            value={text}
            onChange={setText}
            placeholder="kim@tidepost.example"
            isRequired
          />
          <Button type="submit" needs="viewer">
            Show
          </Button>
        </Bar>
      </form>
    </Card>
  );
}

function AddressCard({tenant, address}: {tenant: string; address: string}) {
  const view = useView();
  const status = useAddressStatus(tenant, address);
  const found = status.data;
  const standing = found?.entries.filter((entry) => entry.state !== 'ended') ?? [];
  return (
    <Card title={address} note="one address" actions={<Button onPress={() => view.go('address', '')}>Close</Button>}>
      {status.isPending && <Loading what="its history" />}
      {status.error && <Trouble error={status.error} />}
      {found && (
        <Stack>
          <p style={{margin: 0}}>
            <Tag level={found.verdict === 'held' ? 'fault' : 'right'}>{found.verdict}</Tag> {found.why}
          </p>
          {standing.map((entry) => (
            <Standing key={entry.id} entry={entry} />
          ))}
          <p style={{margin: 0}}>
            <a href={`/flow?view=trails&recipient=${encodeURIComponent(found.address)}&tenant=${tenant}`}>Trail</a>
          </p>
          {standing.some((entry) => entry.state === 'held') && (
            <LiftForm tenant={tenant} entries={standing.filter((entry) => entry.state === 'held')} />
          )}
          {found.history.length > 0 && (
            <DataTable
              label="History"
              columns={[
                {name: inZone('Time'), value: (row: Schemas['ListChange']) => row.at, show: (row) => time(row.at)},
                {
                  name: 'Event',
                  value: (row) => row.change,
                  show: (row) => (
                    <span style={{whiteSpace: 'normal'}}>
                      {change(row.change)} ({words(row.reason)}, {scope(row)}) by {row.by}
                    </span>
                  ),
                },
              ]}
              rows={[...found.history].reverse()}
              id={(row) => String(row.number)}
              file="address.csv"
            />
          )}
          {found.history.length === 0 && <Small>No history.</Small>}
        </Stack>
      )}
    </Card>
  );
}

const Standing = ({entry}: {entry: Entry}) => (
  <div>
    <b>{words(entry.reason)}</b>, {entry.state === 'held' ? 'holds' : words(entry.state)} {scope(entry)},{' '}
    {entry.until ? `until ${time(entry.until)}` : 'no end'}
    {entry.evidence.map((each) => (
      <Reply key={each.time + each.message_id}>
        {time(each.time)} {each.kind} {each.stream || each.domain}: {each.diagnostic || words(each.cause)}
      </Reply>
    ))}
  </div>
);

function LiftForm({tenant, entries}: {tenant: string; entries: Entry[]}) {
  const lift = useLift(tenant);
  const [why, setWhy] = useState('');
  const [sure, setSure] = useState(false);
  const complained = entries.some((entry) => entry.reason === 'complaint');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    lift.mutate({ids: entries.map((entry) => entry.id), address: '', why: why.trim(), despite_complaint: sure});
  };
  return (
    <form onSubmit={submit} style={{display: 'grid', gap: 8, justifyItems: 'start'}}>
      <Field
        label="Reason for lifting"
        value={why}
        onChange={setWhy}
        placeholder="typo at the box office, ticket 812"
        isRequired
        style={{width: '100%'}}
      />
      {complained && (
        <CheckField
          label="The recipient complained, but has since opted in again"
          isSelected={sure}
          onChange={setSure}
        />
      )}
      <Button type="submit" isDisabled={lift.isPending || why.trim().length < 3 || (complained && !sure)}>
        Lift {entries.length > 1 ? `all ${entries.length}` : ''}
      </Button>
      {lift.error && <Trouble error={lift.error} />}
    </form>
  );
}

function Proposals({tenant, rows, columns}: {tenant: string; rows: Entry[]; columns: Column<Entry>[]}) {
  const decide = useDecide(tenant);
  const act = (entries: Entry[], confirm: boolean) =>
    decide.mutate({ids: entries.map((entry) => entry.id), confirm, why: ''});
  const tool: Column<Entry> = {
    name: 'Decide',
    tool: true,
    value: () => '',
    show: (row) => (
      <span style={{display: 'inline-flex', gap: 6}}>
        <Button onPress={() => act([row], true)}>Suppress</Button>
        <Button onPress={() => act([row], false)}>Leave</Button>
      </span>
    ),
  };
  return (
    <>
      {decide.error && <Trouble error={decide.error} />}
      <DataTable
        label="Proposals"
        columns={[columns[0]!, columns[1]!, columns[5]!, tool]}
        rows={rows}
        id={(row) => row.id}
        file={`proposals-${tenant}.csv`}
      />
      <p>
        <Button onPress={() => act(rows.slice(0, 1000), true)}>Accept all {rows.length} shown</Button>{' '}
        <Button onPress={() => act(rows.slice(0, 1000), false)}>Decline all</Button>
      </p>
    </>
  );
}

function HoldCard({tenant}: {tenant: string}) {
  const hold = useHold(tenant);
  const [text, setText] = useState('');
  const [note, setNote] = useState('');
  const addresses = text.split(/[\s,;]+/).filter(Boolean);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    hold.mutate(
      {addresses, reason: 'manual', scope: 'tenant', scope_name: '', note: note.trim()},
      {onSuccess: () => setText('')},
    );
  };
  return (
    <Card title="Add manually" note="one address or @domain per line">
      <form onSubmit={submit} style={{display: 'grid', gap: 8, justifyItems: 'start'}}>
        <Field label="Addresses" mono lines={3} value={text} onChange={setText} style={{width: '100%'}} />
        <Field label="Note" value={note} onChange={setNote} style={{width: '100%'}} />
        <Button type="submit" isDisabled={hold.isPending || addresses.length === 0}>
          {addresses.length > 1 ? `Suppress ${addresses.length} addresses` : 'Suppress'}
        </Button>
      </form>
      {hold.error && <Trouble error={hold.error} />}
      {hold.data && (
        <p role="status">
          {hold.data.changed} held, {hold.data.standing} were already on the list.
          {hold.data.rejected.map((each) => (
            <Small key={each.row} style={{display: 'block'}}>
              {each.text}: {each.why}
            </Small>
          ))}
        </p>
      )}
    </Card>
  );
}
