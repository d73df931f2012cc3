/** A report for a period, for a client or a boss: deliverability report, what happened, what is next. Made to be printed. */
import styled, {createGlobalStyle} from 'styled-components';
import type {Schemas} from '../../api/client';
import {useFlow} from '../mailflow/queries';
import {useWall} from '../wall/queries';
import {useWorklist} from '../worklist/queries';
import {Button} from '../../design/Button';
import {Soft} from '../../design/Card';
import {count, day, factor, firstDay, percent, plural} from '../../design/format';
import {Loading, Trouble} from '../../design/Notice';
import {Plate} from '../../design/Plate';
import {Spark} from '../../design/Spark';
import {colour, font, space} from '../../design/tokens';
import {useView} from '../../shell/view';

const Print = createGlobalStyle`
  @media print {
    header, .tool { display: none; }
    body { background: #fff; }
    @page { size: A4; margin: 16mm; }
    section { break-inside: avoid; }
  }
`;
const Sheet = styled.article`
  max-width: 880px;
  margin: 0 auto;
  background: ${colour('sheet')};
  border: 1px solid ${colour('line')};
  padding: ${space.xxl};
  display: grid;
  gap: ${space.xl};
  h1 {
    font-size: 26px;
  }
  h2 {
    font-size: 17px;
    margin-bottom: ${space.s};
  }
  > header {
    display: block;
  }
  table {
    width: 100%;
    border-collapse: collapse;
  }
  th,
  td {
    text-align: left;
    padding: 5px 8px 5px 0;
    border-bottom: 1px solid ${colour('line')};
    vertical-align: middle;
  }
  th {
    font-size: 12px;
    color: ${colour('soft')};
  }
  .n {
    text-align: right;
  }
  code {
    font: 13px ${font.mono};
    overflow-wrap: anywhere;
  }
  ol {
    margin: 0;
    padding-left: 20px;
  }
  li {
    margin: 6px 0;
  }
  @media print {
    border: 0;
    padding: 0;
    max-width: none;
  }
`;
const overall = (row: Schemas['WallRow']) => row.cells.find((cell) => cell.provider === '(all)')!;
const signed = (n: number) => (n === 0 ? '0' : `${n < 0 ? '−' : '+'}${Math.abs(n)}`);
const rounded = (n: number | null | undefined) => (n == null ? null : Math.round(n));
/** A rate with the counts that it was computed from. */
const rate = (r: Schemas['Rate'] | null | undefined) =>
  r == null ? '' : `${percent(r.value)} (${count(r.count)} of ${count(r.total)})`;

export function ReportPage({who}: {who: Schemas['Who']}) {
  const view = useView(30);
  const tenant = who.tenants.find((each) => each.slug === view.tenant) ?? who.tenants[0]!;
  const days = Math.min(view.days, 90);
  const first = firstDay(days);
  const wall = useWall({days: 2 * days, tenant: tenant.slug, order: 'worst'});
  const flow = useFlow(tenant.slug, first);
  const todo = useWorklist(tenant.slug);
  const closed = useWorklist(tenant.slug, 'resolved');
  if (wall.isPending || flow.isPending || todo.isPending || closed.isPending) return <Loading what="the report" />;
  const trouble = wall.error ?? flow.error ?? todo.error ?? closed.error;
  if (trouble) return <Trouble error={trouble} />;
  const rows = wall.data!.rows.filter((row) => overall(row).trend.some((value) => value != null));
  const total = flow.data!.total;
  const resolved = closed.data!.filter((item) => (item.resolved_at ?? '') >= first && item.level !== 'info');
  const next = todo.data!.filter((item) => item.level !== 'info').slice(0, 3);
  // Of the rounded values, so that the difference is the one of the numbers beside it.
  const start = (row: Schemas['WallRow']) => rounded(overall(row).trend.at(-days - 1));
  const end = (row: Schemas['WallRow']) => rounded(overall(row).value);
  const change = (row: Schemas['WallRow']) => {
    const [first, last] = [start(row), end(row)];
    return first != null && last != null ? last - first : null;
  };
  const fell = rows.filter((row) => (change(row) ?? 0) <= -3);
  return (
    <>
      <Print />
      <p className="tool" style={{textAlign: 'center', marginBottom: 12}}>
        <Button tone="main" needs="viewer" onPress={() => window.print()}>
          Print, or save as PDF
        </Button>
      </p>
      <Sheet>
        <div>
          <h1>{tenant.name}: deliverability report</h1>
          <Soft>
            {day(first)} to {day(wall.data!.day)}, compared with the {days} days before
          </Soft>
        </div>
        <section>
          <p>
            <b>{count(total.counts.delivered)} messages delivered.</b>{' '}
            {total.permanent && <>{rate(total.permanent)} bounced permanently. </>}
            {fell.length === 0 ? 'No reading dropped much. ' : `${fell.map((row) => row.name).join(', ')} dropped. `}
            {resolved.length > 0 && `${plural(resolved.length, 'incident')} resolved. `}
            {next.length === 0
              ? 'Nothing to do.'
              : `${plural(todo.data!.filter((item) => item.level !== 'info').length, 'item')} to do next.`}
          </p>
        </section>
        <section>
          <h2>Domains</h2>
          <table>
            <thead>
              <tr>
                <th>Domain</th>
                <th className="n">Start</th>
                <th className="n">End</th>
                <td />
                <th className="n">Change</th>
                <th>Over {2 * days} days</th>
                <th>Main factor</th>
              </tr>
            </thead>
            <tbody>
              {rows.map((row) => (
                <tr key={row.name}>
                  <td>
                    <code>{row.name}</code>
                  </td>
                  <td className="n">{start(row)}</td>
                  <td className="n">{end(row)}</td>
                  <td>
                    <Plate value={overall(row).value} margin={overall(row).margin} width={11} height={20} />{' '}
                    {overall(row).condition}
                  </td>
                  <td className="n">{change(row) == null ? 'new' : signed(change(row)!)}</td>
                  <td>
                    <Spark values={overall(row).trend} condition={overall(row).condition} width={110} />
                  </td>
                  <td>
                    {row.heaviest && row.heaviest.points >= 1
                      ? `${factor(row.heaviest.factor)}, ${row.heaviest.label}`
                      : ''}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
        <section>
          <h2>Mailbox providers, {days} days</h2>
          <table>
            <thead>
              <tr>
                <th>Provider</th>
                <th className="n">Delivered</th>
                <th className="n">Before</th>
                <th className="n">Permanent bounces</th>
                <th className="n">Delayed</th>
                <th className="n">Complaints</th>
              </tr>
            </thead>
            <tbody>
              {flow.data!.providers.map((row) => (
                <tr key={row.provider}>
                  <td>{row.label}</td>
                  <td className="n">{count(row.counts.delivered)}</td>
                  <td className="n">{count(row.before.delivered)}</td>
                  <td className="n">{rate(row.permanent)}</td>
                  <td className="n">{rate(row.delayed)}</td>
                  <td className="n">{row.reports_complaints ? rate(row.complaints) : 'not reported'}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
        <section>
          <h2>Resolved incidents</h2>
          {resolved.length === 0 ? (
            <Soft>None.</Soft>
          ) : (
            <ol>
              {resolved.map((item) => (
                <li key={item.id}>
                  <b>{item.title}</b>, {day(item.since)} to {day(item.resolved_at!)}. <Soft>{item.text}</Soft>
                </li>
              ))}
            </ol>
          )}
        </section>
        <section>
          <h2>Next steps</h2>
          {next.length === 0 ? (
            <Soft>Nothing to do.</Soft>
          ) : (
            <ol>
              {next.map((item) => (
                <li key={item.id}>
                  <b>{item.title}</b>, since {day(item.since)}. {item.remedy || item.text}
                </li>
              ))}
            </ol>
          )}
        </section>
      </Sheet>
    </>
  );
}
