/** The worklist: what to do next over all tenants, worst level first; each item with its remedy and a re-measure. */
import {Link, useNavigate, useParams} from 'react-router';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useLines, useDetection, useWorklist} from './queries';
import {SelectedItems, useActs} from './SelectedItems';
import {Button} from '../../design/Button';
import {Card, Small, Soft} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {DataTable} from '../../design/DataTable';
import {ago, count, day, percent, plural, short, words} from '../../design/format';
import {download, toCsv} from '../../design/csv';
import {CheckField} from '../../design/CheckField';
import {useListKeys} from '../../design/listKeys';
import {useMay} from '../../design/may';
import {useSelection} from '../../design/selection';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {colour, font, narrow, space, type Colour} from '../../design/tokens';
import {useView} from '../../shell/view';
import {WorkItemCard} from './WorkItemCard';

export type WorkItem = Schemas['WorkItem'];
type Line = Schemas['LineRow'];
const Page = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 440px;
  gap: ${space.l};
  align-items: start;
  @media (max-width: 1100px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;
const Head = styled.div`
  grid-column: 1 / -1;
  display: flex;
  flex-wrap: wrap;
  gap: ${space.xs} ${space.m};
  align-items: baseline;
  p {
    color: ${colour('soft')};
  }
  b {
    color: ${colour('ink')};
  }
`;
const List = styled.ol`
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  gap: 1px;
  background: ${colour('line')};
  border: 1px solid ${colour('line')};
  li {
    background: ${colour('sheet')};
    border-left: 5px solid;
    display: flex;
  }
  li > label {
    padding: 4px 8px 4px 10px;
    align-self: start;
  }
  a {
    flex: 1;
    min-width: 0;
    display: grid;
    grid-template-columns: 92px minmax(0, 1fr) auto;
    gap: 2px ${space.m};
    padding: 9px 12px;
    text-decoration: none;
    color: inherit;
  }
  a[aria-current] {
    background: color-mix(in srgb, ${colour('line')} 15%, transparent);
    box-shadow: inset 3px 0 ${colour('rust')};
  }
  b {
    font-weight: 600;
    overflow-wrap: anywhere;
  }
  i {
    font: 600 11px ${font.sans};
    text-transform: uppercase;
    letter-spacing: 0.04em;
    padding-top: 3px;
  }
  p {
    grid-column: 2 / -1;
    color: ${colour('soft')};
    font-size: 13px;
  }
  small {
    color: ${colour('soft')};
    font-size: 12px;
    white-space: nowrap;
  }
  ${narrow} {
    a {
      grid-template-columns: minmax(0, 1fr);
    }
    p {
      grid-column: 1;
    }
  }
`;
export const TONE: Record<WorkItem['level'], Colour> = {
  stop: 'seized',
  fix: 'corroded',
  investigate: 'tarnished',
  info: 'soft',
};
const SHOWN = [
  {value: '', label: 'Open'},
  {value: 'mine', label: 'Assigned to me'},
  {value: 'snoozed', label: 'Snoozed'},
  {value: 'resolved', label: 'Resolved'},
];

const EXPORTED = [
  'id',
  'tenant',
  'level',
  'state',
  'kind',
  'subject',
  'name',
  'title',
  'text',
  'since',
  'resolved_at',
  'mail',
  'remedy',
  'record',
  'assigned_to',
  'returns',
] as const;

/** Items as they are exported, a line each. */
export const asCsv = (items: WorkItem[]): string =>
  toCsv(
    [...EXPORTED],
    items.map((item) => EXPORTED.map((name) => item[name] ?? '')),
  );

export function WorklistPage({who}: {who: Schemas['Who']}) {
  const {tenant = '', id = ''} = useParams();
  const view = useView();
  const state = view.get('state');
  const list = useWorklist(view.tenant, state === 'mine' ? '' : state, state === 'mine' ? who.email : '');
  const look = useDetection();
  const navigate = useNavigate();
  const shown = list.data ?? [];
  const current = id ? `${tenant}/${id}` : shown[0] ? `${shown[0].tenant}/${shown[0].id}` : null;
  const may = useMay();
  const selection = useSelection(shown.map((item) => `${item.tenant}/${item.id}`));
  const act = useActs();
  /** Acts on what is selected, or else on the item that is open. */
  const does = (what: 'acknowledge' | 'recheck') => (open: string) => {
    if (may) void act.on(selection.ids.length ? selection.ids : [open], {act: what, text: '', to: ''});
  };
  useListKeys({
    ids: shown.map((item) => `${item.tenant}/${item.id}`),
    chosen: current,
    onChoose: (path) => {
      void navigate({pathname: `/worklist/${path}`, search: window.location.search}, {replace: true});
      document.querySelector(`a[href^="/worklist/${path}"]`)?.scrollIntoView?.({block: 'nearest'});
    },
    acts: {a: does('acknowledge'), r: does('recheck'), x: (open) => may && selection.toggle(open)},
  });
  if (list.isPending) return <Loading what="the worklist" />;
  if (list.error) return <Trouble error={list.error} again={() => void list.refetch()} />;
  const items = list.data;
  const urgent = items.filter((item) => item.level === 'stop' || item.level === 'fix');
  const chosen = id ? {tenant, id: Number(id)} : items[0] ? {tenant: items[0].tenant, id: items[0].id} : null;
  const search = new URLSearchParams({...(view.tenant && {tenant: view.tenant}), ...(state && {state})}).toString();
  return (
    <Page>
      <Head>
        <h1>Worklist</h1>
        <Choice label="Show" value={state} options={SHOWN} onChange={(value) => view.go('state', value)} />
        <p>
          {state === '' && (
            <b>
              {urgent.length
                ? `${plural(urgent.length, 'problem')} to fix, by level, then affected mail.`
                : 'Nothing to fix.'}{' '}
            </b>
          )}
          {state === '' && (items.length > urgent.length ? `${items.length - urgent.length} more to review.` : '')}
        </p>
        {items.length > 0 && (
          <Small>
            <kbd>j</kbd> <kbd>k</kbd> move, <kbd>x</kbd> select, <kbd>a</kbd> acknowledge, <kbd>r</kbd> re-check,{' '}
            <kbd>u</kbd> undo
          </Small>
        )}
        {act.error && <Trouble error={act.error} />}
        {items.length > 0 && (
          <Button tone="link" onPress={() => download('worklist.csv', asCsv(items))}>
            CSV
          </Button>
        )}
        {view.tenant && (
          <Button changes onPress={() => look.mutate(view.tenant)} isDisabled={look.isPending}>
            {look.isPending ? 'Detecting …' : 'Run detection'}
          </Button>
        )}
      </Head>
      <div style={{display: 'grid', gap: 16, minWidth: 0}}>
        {may && <SelectedItems selection={selection} acts={act} tenant={view.tenant} />}
        {items.length === 0 ? (
          <Notice title={state ? 'No items' : 'Nothing to do'}>
            {state
              ? 'No items in this state.'
              : 'No reading has dropped, no rate has crossed its line, and the records have no faults.'}
          </Notice>
        ) : (
          <List aria-label="Items">
            {items.map((item) => (
              <li key={item.id} style={{borderLeftColor: colour(TONE[item.level])}}>
                {may && (
                  <CheckField
                    label={`Select ${item.title}`}
                    hidden
                    isSelected={selection.has(`${item.tenant}/${item.id}`)}
                    onChange={() => selection.toggle(`${item.tenant}/${item.id}`)}
                  />
                )}
                <Link
                  to={`/worklist/${item.tenant}/${item.id}${search && `?${search}`}`}
                  aria-current={chosen?.id === item.id ? 'true' : undefined}
                >
                  <i style={{color: colour(TONE[item.level])}}>{item.level}</i>
                  <b>{item.title}</b>
                  <small>{item.mail ? `${short(item.mail)} messages a week` : ''}</small>
                  <p>
                    {item.tenant_name}, since {day(item.since)}
                    {item.returns > 0 && <> · returned{item.returns > 1 ? ` ${item.returns} times` : ''}</>}
                    {item.assigned_to && <> · {item.assigned_to}</>}
                    {item.state === 'waiting' && <> · new</>}
                    {item.state === 'acknowledged' && <> · acknowledged</>}
                    {item.state === 'snoozed' && item.until && <> · snoozed until {day(item.until)}</>}
                    {item.state === 'resolved' && item.resolved_at && <> · closed {ago(item.resolved_at)}</>}
                  </p>
                </Link>
              </li>
            ))}
          </List>
        )}
        {view.tenant && <LinesCard tenant={view.tenant} />}
      </div>
      {chosen ? <WorkItemCard key={chosen.id} tenant={chosen.tenant} id={chosen.id} /> : <span />}
    </Page>
  );
}

function LinesCard({tenant}: {tenant: string}) {
  const lines = useLines(tenant);
  return (
    <Card
      title="Rates and lines"
      note="counts of the last 7 days; the estimate counts recent mail more and is compared with the lines"
    >
      {lines.isPending && <Loading what="the lines" />}
      {lines.error && <Trouble error={lines.error} />}
      {lines.data && lines.data.length === 0 && <Soft>No recent mail.</Soft>}
      {lines.data && lines.data.length > 0 && (
        <DataTable
          label="Lines"
          columns={[
            {name: 'Of', value: (row: Line) => row.subject},
            {name: 'Name', value: (row) => row.name},
            {name: 'Events', value: (row) => words(row.rate)},
            {
              name: 'Last 7 days',
              about: {
                formula: 'Bounces or complaints / messages, as plain counts',
                source: 'Counters of events; complaints at providers that report them',
                period: 'The last 7 days, today included',
              },
              value: (row) => row.value,
              show: (row) => (
                <>
                  {row.value === null ? 'no mail' : percent(row.value)}
                  <Small style={{display: 'block'}}>
                    {count(row.events)} of {count(row.mail)}
                  </Small>
                </>
              ),
              number: true,
            },
            {
              name: 'Estimate',
              value: (row) => row.estimate,
              show: (row) => percent(row.estimate),
              number: true,
              about: {
                formula:
                  'Expected rate of the next mail: counts in which a day counts less the older it is, together with what is usual for senders',
                source: 'The same counters',
                period: 'The last 30 days',
              },
            },
            {
              name: 'Watch line',
              about: {
                formula: 'The rate from which to watch, and how probable it is that the estimate is above it',
                source: "The relay's own lines where it has them (Domains, a domain, Setup), else the defaults",
                period: 'The last 30 days',
              },
              value: (row) => row.watch,
              show: (row) => (
                <>
                  {percent(row.watch)}{' '}
                  <Small style={{display: 'block'}}>above: {Math.round(row.watch_chance * 100)} %</Small>
                </>
              ),
              number: true,
            },
            {
              name: 'Stop line',
              about: {
                formula:
                  'The rate from which a relay or provider stops a sender, and how probable it is that the estimate is above it',
                source: "The relay's own lines where it has them, else the defaults",
                period: 'The last 30 days',
              },
              value: (row) => row.stop,
              show: (row) => (
                <>
                  {percent(row.stop)}{' '}
                  <Small style={{display: 'block'}}>above: {Math.round(row.stop_chance * 100)} %</Small>
                </>
              ),
              number: true,
            },
            {
              name: 'Above',
              value: (row) => row.crossed,
              show: (row) =>
                row.crossed ? (
                  <b style={{color: colour(row.crossed === 'stop' ? 'seized' : 'tarnished')}}>{row.crossed}</b>
                ) : (
                  ''
                ),
            },
          ]}
          rows={lines.data}
          id={(row) => row.subject + row.name + row.rate}
          file={`lines-${tenant}.csv`}
        />
      )}
    </Card>
  );
}
