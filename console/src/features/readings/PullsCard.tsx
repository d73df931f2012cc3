/** What pulls a reading down, by factor, heaviest first; each opens down to its providers and events. */
import type {ReactNode} from 'react';
import {Link} from 'react-router';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Card, Small, Soft} from '../../design/Card';
import {count, factor, lineOf, measured} from '../../design/format';
import {colour} from '../../design/tokens';

const List = styled.ul`
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  gap: 7px;
  > li {
    display: grid;
    grid-template-columns: 196px 1fr 34px;
    gap: 0 8px;
    align-items: center;
  }
  details {
    grid-column: 1 / -1;
    font-size: 13px;
  }
  summary {
    cursor: pointer;
    color: ${colour('soft')};
    font-size: 12px;
  }
  ol {
    margin: 4px 0;
    padding-left: 14px;
    list-style: none;
  }
  i {
    display: block;
    height: 14px;
    min-width: 1px;
  }
  b {
    font-weight: 600;
    text-align: right;
    font-size: 13px;
  }
  span {
    font-size: 13px;
    line-height: 1.2;
  }
`;

type Pull = Schemas['Pull'];

/** Where the events of a pull are listed; nowhere for findings of the audit, and for held addresses. */
export function eventsOf(
  pull: Pull,
  tenant: string,
  of: {subject: string; name: string},
  day: string,
): string | undefined {
  if (of.subject === 'domain' && pull.factor === 'record_faults') return `/domains/${tenant}/${of.name}?view=records`;
  if (of.subject === 'domain' && pull.factor === 'held') return `/suppression?tenant=${tenant}`;
  if (of.subject === 'domain' && pull.factor === 'alignment') return `/domains/${tenant}/${of.name}?view=reports`;
  if (pull.factor === 'placement') return `/bench?tenant=${tenant}&view=placement`;
  if (!pull.kinds?.length) return undefined;
  const end = new Date(`${day}T00:00:00Z`).getTime() + 86_400_000;
  const asked = new URLSearchParams({tenant, view: 'trails', [of.subject]: of.name, kind: pull.kinds.join(',')});
  if (pull.causes?.length) asked.set('cause', pull.causes.join(','));
  if (!pull.provider.startsWith('(')) asked.set('provider', pull.provider);
  asked.set('since', new Date(end - pull.days * 86_400_000).toISOString().slice(0, 19) + 'Z');
  if (end < Date.now()) asked.set('until', new Date(end).toISOString().slice(0, 19) + 'Z');
  return `/flow?${asked}`;
}

export function PullsCard({
  reading,
  tenant,
  of,
}: {
  reading: Schemas['Reading'] | undefined;
  tenant: string;
  of: {subject: string; name: string};
}) {
  if (!reading || reading.value == null) return null;
  const pulls = (reading.pulls ?? []).filter((pull) => pull.points > 0);
  const factors = [...new Set(pulls.map((pull) => pull.factor))]
    .map((name) => {
      const mine = pulls.filter((pull) => pull.factor === name);
      return {mine, points: mine.reduce((sum, pull) => sum + pull.points, 0)};
    })
    .sort((a, b) => b.points - a.points);
  const most = Math.max(10, ...factors.map((each) => each.points));
  const total = pulls.reduce((sum, pull) => sum + pull.points, 0);
  return (
    <Card
      title="Factors"
      note={`100 − ${total.toFixed(1)} = ${reading.value}; rates are estimates: recent mail counts more`}
    >
      {pulls.length === 0 && <Soft>Nothing.</Soft>}
      <List>
        {factors.map(({mine, points}) => {
          const worst = mine[0] as Pull;
          return (
            <li key={worst.factor}>
              <span>
                <Named to={eventsOf(worst, tenant, of, reading.day)}>{factor(worst.factor)}</Named>
                {mine.length === 1 && `, ${worst.label}`}
                <br />
                <Measure pull={worst} at={mine.length > 1} />
              </span>
              <i style={{width: `${(100 * points) / most}%`, background: colour(tone(worst))}} />
              <b>{points.toFixed(1)}</b>
              {mine.length > 1 && (
                <details>
                  <summary>{mine.length} providers</summary>
                  <ol>
                    {mine.map((pull) => (
                      <li key={pull.provider}>
                        <Named to={eventsOf(pull, tenant, of, reading.day)}>
                          {pull.points.toFixed(1)} {pull.label}
                        </Named>{' '}
                        <Measure pull={pull} />
                      </li>
                    ))}
                  </ol>
                </details>
              )}
            </li>
          );
        })}
      </List>
    </Card>
  );
}

const tone = (pull: Pull) =>
  pull.measure >= pull.stop ? 'corroded' : pull.measure >= pull.watch ? 'tarnished' : 'soft';

/** What a factor measures, its lines, and the counts behind it; `at`: where, if it is the worst of several. */
const Measure = ({pull, at = false}: {pull: Pull; at?: boolean}) => (
  <Small>
    {at && `most at ${pull.label}: `}
    {measured(pull.measure, pull.unit)}, lines {lineOf(pull.watch, pull.unit)} and {lineOf(pull.stop, pull.unit)}
    {pull.count != null && `; ${count(pull.count)} of ${count(pull.total ?? 0)} in ${pull.days} days`}
    {pull.elsewhere && ' at the other providers, as this one reports none'}
  </Small>
);

const Named = ({to, children}: {to: string | undefined; children: ReactNode}) =>
  to ? (
    <Link to={to} title="Show the events">
      {children}
    </Link>
  ) : (
    <>{children}</>
  );
