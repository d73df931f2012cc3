import {useState} from 'react';
import {Link} from 'react-router';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Checklist} from './Checklist';
import {ORDERS, useWall} from './queries';
import {useWorklist} from '../worklist/queries';
import {Button, Go} from '../../design/Button';
import {Choice} from '../../design/Choice';
import {Small, Soft} from '../../design/Card';
import {CopyButton} from '../../design/CopyButton';
import {download, toCsv} from '../../design/csv';
import {Field} from '../../design/Field';
import {count, day, plural, short, time} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Plate} from '../../design/Plate';
import {RecordText} from '../../design/RecordText';
import {Spark} from '../../design/Spark';
import {advice, colour, conditions, floors, font, narrow, space} from '../../design/tokens';
import {useView} from '../../shell/view';
import {lastVisit} from '../../shell/visit';
import {pathOf, SUBJECTS} from '../readings/ReadingsPage';
import {TONE, type WorkItem} from '../worklist/WorklistPage';

type Wall = Schemas['Wall'];

const Page = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 308px;
  gap: ${space.l};
  @media (max-width: 1100px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;
const Head = styled.div`
  display: flex;
  align-items: baseline;
  gap: 4px 14px;
  flex-wrap: wrap;
  margin-bottom: 10px;
  p {
    color: ${colour('soft')};
  }
  b {
    color: ${colour('ink')};
    font-weight: 600;
  }
`;
const Keys = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 4px ${space.l};
  color: ${colour('soft')};
  font-size: 12px;
  margin-bottom: ${space.s};
  span {
    display: flex;
    gap: 6px;
    align-items: center;
  }
`;
const Condition = styled.button`
  display: flex;
  gap: 6px;
  align-items: center;
  border: 1px solid transparent;
  border-radius: 3px;
  background: none;
  padding: 1px 4px;
  color: inherit;
  font: inherit;
  cursor: pointer;
  b {
    color: ${colour('ink')};
    font-weight: 600;
  }
  &:hover,
  &[aria-pressed='true'] {
    border-color: ${colour('line')};
    background: ${colour('sheet')};
  }
  &:focus-visible {
    outline: 2px solid ${colour('sound')};
  }
`;
const Frame = styled.div`
  overflow-x: auto;
  background: ${colour('sheet')};
  border: 1px solid ${colour('line')};
`;
const Table = styled.table`
  border-collapse: collapse;
  width: 100%;
  th {
    text-align: left;
    font-weight: 600;
    font-size: 12px;
    padding: 8px 4px;
    color: ${colour('soft')};
    vertical-align: bottom;
  }
  thead th {
    border-bottom: 1px solid ${colour('line')};
    line-height: 1.25;
  }
  td {
    padding: 3px 4px;
    border-bottom: 1px solid ${colour('line')};
    white-space: nowrap;
  }
  td > a {
    display: flex;
    align-items: center;
    gap: 4px;
    text-decoration: none;
  }
  td b {
    font-weight: 600;
    min-width: 22px;
    text-align: right;
  }
  tbody th[scope='rowgroup'] {
    color: ${colour('ink')};
    padding: 9px 8px 2px;
  }
  tbody th[scope='row'] {
    font: 12px ${font.mono};
    padding: 3px 8px;
    border-bottom: 1px solid ${colour('line')};
    color: ${colour('ink')};
    white-space: nowrap;
    vertical-align: middle;
  }
  tbody th[scope='row'] a {
    text-decoration: none;
  }
  tbody th[scope='row'] a:hover {
    text-decoration: underline;
  }
  .n {
    text-align: right;
    color: ${colour('soft')};
    font-size: 12px;
  }
  .all {
    background: color-mix(in srgb, ${colour('line')} 28%, transparent);
    border-right: 1px solid ${colour('line')};
  }
  ${narrow} {
    tbody th[scope='row'] {
      position: sticky;
      left: 0;
      background: ${colour('sheet')};
      max-width: 46vw;
      overflow: hidden;
      text-overflow: ellipsis;
    }
  }
`;

export function WallPage({who}: {who?: Schemas['Who']}) {
  const {days, tenant, get, set, go} = useView();
  const [since] = useState(lastVisit);
  const subject = SUBJECTS.find((each) => each.value === get('subject'))?.value ?? 'domain';
  const on = dayOf(get('on'));
  const order = ORDERS.find((each) => each.value === get('order'))?.value ?? 'name';
  const condition = conditions.find((each) => each === get('condition')) ?? null;
  const search = get('search');
  const wall = useWall({days, tenant: tenant || undefined, subject, last: on, order, condition, search});
  const work = useWorklist(tenant, '', '', on);
  if (wall.isPending) return <Loading what="the wall" />;
  if (wall.error) return <Trouble error={wall.error} again={() => void wall.refetch()} />;
  const items = work.data ?? [];
  const fresh = since && !on ? items.filter((item) => item.found_at > since) : [];
  const checked = tenant || (who?.tenants.length === 1 ? who.tenants[0]!.slug : '');
  return (
    <Page>
      <section aria-label="Wall">
        <Head>
          <h1>Wall</h1>
          <Choice
            label="Rows"
            value={subject}
            options={SUBJECTS}
            onChange={(value) => go('subject', value === 'domain' ? '' : value)}
          />
          <Field
            label="As of"
            type="date"
            value={on || new Date().toISOString().slice(0, 10)}
            onChange={(value) => go('on', dayOf(value))}
            style={{gridTemplateColumns: 'auto auto', alignItems: 'center'}}
          />
          <Choice
            label="Order"
            value={order}
            options={ORDERS}
            onChange={(value) => go('order', value === 'name' ? '' : value)}
          />
          <Field
            label="Search"
            type="search"
            value={search}
            onChange={(value) => set('search', value)}
            style={{gridTemplateColumns: 'auto 150px', alignItems: 'center'}}
          />
          <p>
            {sentence(wall.data, items, on)}{' '}
            {fresh.length > 0 && (
              <Link to={`/worklist${tenant && `?tenant=${tenant}`}`}>
                {plural(fresh.length, 'item')} new since your last visit, {time(since)}.
              </Link>
            )}
          </p>
        </Head>
        {checked && <Checklist key={checked} tenant={checked} />}
        <Keys>
          {conditions.map((each) => (
            <Condition
              key={each}
              type="button"
              aria-pressed={condition === each}
              onClick={() => go('condition', condition === each ? '' : each)}
              title={condition === each ? 'Show all conditions' : `Show only rows that are ${each}`}
            >
              <Plate value={floors[each] + 13} margin={6} width={11} height={20} />
              <b>{count(wall.data.summary.conditions[each] ?? 0)}</b> {each}: {advice[each]}
            </Condition>
          ))}
          {wall.data.summary.unknown > 0 && <span>{count(wall.data.summary.unknown)} with too little mail</span>}
        </Keys>
        {wall.data.rows.length === 0 && on ? (
          <Notice title="No readings for this day">
            No mail was sent by then, or the day is before the first reading.
          </Notice>
        ) : wall.data.rows.length === 0 && (search || condition) ? (
          <Notice title="Nothing fits">
            None of these {search && `has “${search}” in its name`}
            {search && condition && ' and '}
            {condition && `is ${condition}`}.{' '}
            <Button
              tone="link"
              onPress={() => {
                set('search', '');
                set('condition', '');
              }}
            >
              Show all
            </Button>
          </Notice>
        ) : wall.data.rows.length === 0 ? (
          <Notice title="No domains yet">
            Each sending domain has a row here, with its reading at every mailbox provider. Add one to audit its
            records, then let events come in.
            <Go to={tenant ? `/domains?tenant=${tenant}` : '/domains'}>Add your first domain</Go>
          </Notice>
        ) : (
          <>
            <Frame>
              <WallTable wall={wall.data} flat={order !== 'name'} />
            </Frame>
            {wall.hasNextPage && (
              <p style={{marginTop: 8}}>
                {count(wall.data.rows.length)} of {count(wall.data.summary.subjects)} are shown.{' '}
                <Button tone="link" isDisabled={wall.isFetchingNextPage} onPress={() => void wall.fetchNextPage()}>
                  {wall.isFetchingNextPage ? 'Loading…' : 'Show more'}
                </Button>
              </p>
            )}
            <p style={{color: colour('soft'), fontSize: 12, marginTop: 8}}>
              A plate shows what is left: full is 100. The hatched edge is the margin. Empty outline: too little mail to
              say.{' '}
              <Button tone="link" onPress={() => exportWall(wall.data)}>
                Export CSV
              </Button>
            </p>
          </>
        )}
      </section>
      <Worklist items={items} on={on} more={`/worklist${tenant && `?tenant=${tenant}`}`} />
    </Page>
  );
}

/** A past day as a parameter; nothing for today, for a future day, and for text that is not a day. */
export function dayOf(text: string, today = new Date().toISOString().slice(0, 10)): string {
  return /^\d{4}-\d{2}-\d{2}$/.test(text) && !Number.isNaN(Date.parse(text)) && text < today ? text : '';
}

function sentence(wall: Wall, items: WorkItem[], on: string) {
  const {delivered, subjects} = wall.summary;
  const urgent = items.filter((item) => item.level === 'stop' || item.level === 'fix').length;
  return (
    <>
      {plural(
        subjects,
        {domain: 'sending domain', stream: 'stream', relay: 'relay', ip: 'sending address'}[
          wall.subject ?? 'domain'
        ].replace(/address$/, subjects === 1 ? 'address' : 'addresse'),
      )}
      , {short(delivered)} messages delivered in the {on ? '' : 'last '}
      {wall.days} days{on ? ` up to ${day(on)}` : ''}.{' '}
      <b>
        {on
          ? items.length
            ? `${plural(items.length, 'incident')} that day.`
            : 'No problems that day.'
          : urgent
            ? `${plural(urgent, 'item')} ${urgent === 1 ? 'needs' : 'need'} attention today.`
            : 'Nothing needs attention today.'}
      </b>
    </>
  );
}

/** Rows by tenant, or `flat` in their own order. */
function WallTable({wall, flat}: {wall: Wall; flat: boolean}) {
  const tenants = [...new Set(wall.rows.map((row) => row.tenant))];
  const groups = flat ? [''] : tenants;
  return (
    <Table>
      <thead>
        <tr>
          <th scope="col">{HEADS[wall.subject ?? 'domain']}</th>
          <th scope="col" className="n">
            Delivered
          </th>
          {wall.columns.map((column) => (
            <th scope="col" key={column.provider} className={column.provider === '(all)' ? 'all' : undefined}>
              {column.label}
              {column.outage ? (
                <Outage
                  title={`${column.label} delayed ${Math.round(column.outage * 100)} % of all senders' mail that day: a provider outage, excluded from readings`}
                >
                  outage
                </Outage>
              ) : null}
            </th>
          ))}
        </tr>
      </thead>
      {groups.map((tenant) => {
        const rows = flat ? wall.rows : wall.rows.filter((row) => row.tenant === tenant);
        return (
          <tbody key={tenant}>
            {!flat && (
              <tr>
                <th scope="rowgroup" colSpan={wall.columns.length + 2}>
                  {rows[0]!.tenant_name}
                </th>
              </tr>
            )}
            {rows.flatMap((row) => [
              <tr key={row.tenant + row.name}>
                <th scope="row">
                  <Link to={pathOf(row, wall.subject ?? 'domain')}>{row.name}</Link>
                  {flat && tenants.length > 1 && <Small style={{display: 'block'}}>{row.tenant_name}</Small>}
                  {(row.lacks ?? []).length > 0 && (
                    <Lacks to={`/domains/${row.tenant}/${row.name}?view=setup`} row={row} />
                  )}
                </th>
                <td className="n">{short(row.delivered)}</td>
                {row.cells.map((cell, i) => (
                  <td key={cell.provider} className={cell.provider === '(all)' ? 'all' : undefined}>
                    <Link
                      to={`${pathOf(row, wall.subject ?? 'domain')}?provider=${encodeURIComponent(cell.provider)}`}
                      aria-label={`${row.name}, ${wall.columns[i]!.label}: ${cell.value == null ? 'too little mail for a reading' : `${Math.round(cell.value)}, ${cell.condition}`}`}
                    >
                      <Plate value={cell.value} margin={cell.margin} />
                      {cell.value != null && (
                        <>
                          <b>{Math.round(cell.value)}</b>
                          <Spark values={cell.trend} condition={cell.condition} width={26} />
                        </>
                      )}
                    </Link>
                  </td>
                ))}
              </tr>,
              ...(row.warmup ?? []).map((plan) => (
                <WarmupRow key={`${row.tenant}${row.name} ${plan.plan}`} wall={wall} row={row} plan={plan} />
              )),
            ])}
          </tbody>
        );
      })}
    </Table>
  );
}

/** What a warm-up plan of the row above allows at each provider today, and what was sent. */
function WarmupRow({wall, row, plan}: {wall: Wall; row: Schemas['WallRow']; plan: Schemas['WallWarmup']}) {
  const to = `/flow?tenant=${row.tenant}&view=warmup&plan=${plan.plan}`;
  const cells = new Map(plan.cells.map((cell) => [cell.provider, cell]));
  return (
    <tr>
      <th scope="row">
        <Link to={to}>
          <Small>warm-up {plan.plan}, today</Small>
        </Link>
      </th>
      <td className="n" />
      {wall.columns.map((column) => {
        const cell = cells.get(column.provider);
        const of = column.provider === '(all)' ? plan : cell;
        return (
          <td
            key={column.provider}
            className={column.provider === '(all)' ? 'all' : undefined}
            style={{whiteSpace: 'normal'}}
          >
            {of && (
              <Small title={cell ? `Step ${cell.step} of ${plan.steps}. ${cell.why}` : undefined}>
                {of.sent > of.per_day ? <b>{count(of.sent)}</b> : count(of.sent)} of {count(of.per_day)}
                {cell?.held ? ', held back' : ''}
              </Small>
            )}
          </td>
        );
      })}
    </tr>
  );
}

/** A small word where a From domain is not verified or not aligned, with which stream and what to do. */
function Lacks({to, row}: {to: string; row: Schemas['WallRow']}) {
  const lacks = row.lacks ?? [];
  const said = lacks.map((each) => (each.stream ? `${each.stream}: ${each.text}` : each.text)).join('; ');
  const words = [
    lacks.some((each) => !each.verified) && 'not verified',
    lacks.some((each) => each.aligned === false) && 'not aligned',
  ]
    .filter(Boolean)
    .join(', ');
  return (
    <Link to={to} title={said} aria-label={`${row.name}: ${said}`} style={{display: 'block', lineHeight: 1.1}}>
      <Small>{words}</Small>
    </Link>
  );
}

function exportWall(wall: Wall) {
  const columns = ['tenant', 'domain', 'delivered', ...wall.columns.map((column) => column.label), 'faults'];
  const rows = wall.rows.map((row) => [
    row.tenant_name,
    row.name,
    row.delivered,
    ...row.cells.map((cell) => cell.value),
    row.faults,
  ]);
  download(`wall-${wall.day}.csv`, toCsv(columns, rows));
}

const HEADS = {domain: 'Domain', stream: 'Stream', relay: 'Relay', ip: 'Address'};
const Outage = styled.small`
  display: block;
  color: ${colour('tarnished')};
  border: 1px solid currentColor;
  border-radius: 3px;
  padding: 0 3px;
  width: fit-content;
  font-size: 10px;
`;

const List = styled.ol`
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  gap: 10px;
  li {
    background: ${colour('sheet')};
    border: 1px solid ${colour('line')};
    border-left-width: 5px;
    padding: 10px 12px;
    display: grid;
    gap: 6px;
  }
  li > div:first-child {
    display: flex;
    justify-content: space-between;
    gap: 10px;
    align-items: baseline;
  }
  b {
    font-weight: 600;
    overflow-wrap: anywhere;
  }
  p {
    color: ${colour('soft')};
    font-size: 13px;
  }
  small {
    font-size: 12px;
    color: ${colour('soft')};
    white-space: nowrap;
  }
`;

const SHOWN = 6;

function Worklist({items, on, more}: {items: WorkItem[]; on: string; more: string}) {
  return (
    <aside aria-label="Worklist">
      <Head>
        <h2 style={{fontSize: 17}}>{on ? `On ${day(on)}` : 'Worklist'}</h2>
        <p>{on ? 'problems on that day' : 'worst level first, then by affected mail'}</p>
      </Head>
      {on && items.length === 0 && <Soft>No problems known.</Soft>}
      {!on && items.length === 0 && <Soft>Nothing to do: no reading has dropped, and the records have no faults.</Soft>}
      <List>
        {items.slice(0, SHOWN).map((item) => (
          <li key={item.id} style={{borderLeftColor: colour(TONE[item.level])}}>
            <div>
              <b>{item.title}</b>
              <small>{item.mail ? `${short(item.mail)} messages` : ''}</small>
            </div>
            <p>{item.remedy || item.text}</p>
            {item.record && (
              <RecordText text={item.record.length > 200 ? `${item.record.slice(0, 160)}…` : item.record} />
            )}
            <div style={{display: 'flex', gap: 8, alignItems: 'center'}}>
              {item.record && (
                <CopyButton value={item.record} tone="main">
                  Copy record
                </CopyButton>
              )}
              <Link to={`/worklist/${item.tenant}/${item.id}`}>Open</Link>
            </div>
          </li>
        ))}
      </List>
      {items.length > SHOWN && (
        <p style={{marginTop: 8}}>
          <Link to={more}>All {items.length} items</Link>
        </p>
      )}
    </aside>
  );
}
