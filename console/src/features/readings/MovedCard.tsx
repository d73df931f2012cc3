/** What moved a reading between two days: which factors, at which providers, from which streams, and what else happened. */
import {useState} from 'react';
import {Link} from 'react-router';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useMoved, type Subjected} from './queries';
import {Button} from '../../design/Button';
import {Card, Small} from '../../design/Card';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {count, day, factor, measured, plural, words} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {colour, space} from '../../design/tokens';
import {eventsOf} from './PullsCard';

type Move = Schemas['Move'];
type FactorMove = Schemas['FactorMove'];
const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s};
  align-items: end;
  margin-bottom: ${space.s};
`;
const Marks = styled.ul`
  margin: ${space.s} 0 0;
  padding-left: 18px;
  font-size: 13px;
  li {
    margin: 2px 0;
    overflow-wrap: anywhere;
  }
`;

interface MovedCardProps {
  tenant: string;
  of: Subjected;
  first: string;
  last: string;
  onDays: (first: string, last: string) => void;
}

export function MovedCard({tenant, of, first, last, onDays}: MovedCardProps) {
  const found = useMoved(tenant, of, first, last);
  return (
    <Card title="What changed" note="between two days; click the chart to choose the first">
      <Row>
        <Field label="From" value={first} onChange={(value) => onDays(value, last)} type="date" />
        <Field label="To" value={last} onChange={(value) => onDays(first, value)} type="date" />
      </Row>
      {found.isPending && <Loading what="the changes" />}
      {found.error && <Trouble error={found.error} />}
      {found.data && !found.error && <Found found={found.data} tenant={tenant} />}
    </Card>
  );
}

const value = (reading: Schemas['Reading']) => (reading.value == null ? 'too little mail' : String(reading.value));

/** Points of a change: what a reading lost is negative. */
const points = (change: number) => (
  <span style={{color: colour(change > 0 ? 'corroded' : 'sound')}}>
    {change > 0 ? '−' : '+'}
    {Math.abs(change).toFixed(1)}
  </span>
);
const counts = (n: number | null | undefined, of: number | null | undefined) =>
  n == null || of == null ? '' : `${count(n)} of ${count(of)}`;
const share = (n: number | null | undefined, of: number | null | undefined) => (n == null || !of ? null : n / of);

/** The events behind a move: those of the day on which it took more. */
export function eventsOfMove(move: Move, found: Schemas['Explanation'], tenant: string): string | undefined {
  const reading = move.after >= move.before ? found.last : found.first;
  const pull = (reading.pulls ?? []).find((each) => each.factor === move.factor && each.provider === move.provider);
  return pull && eventsOf(pull, tenant, {subject: found.subject ?? 'domain', name: found.name}, reading.day);
}

function Found({found, tenant}: {found: Schemas['Explanation']; tenant: string}) {
  const [all, setAll] = useState(false);
  const change = found.first.value != null && found.last.value != null ? found.last.value - found.first.value : null;
  const [most] = found.factors;
  const where = (name: string) => {
    const at = found.moves.filter((move) => move.factor === name);
    return at.length === 1 ? (at[0]?.label ?? '') : plural(at.length, 'provider');
  };
  const largest = (name: string) => found.moves.find((move) => move.factor === name);
  const linked = (move: Move | undefined) => {
    const to = move && eventsOfMove(move, found, tenant);
    const name = move ? factor(move.factor) : '';
    return to ? (
      <Link to={to} title="Show the events">
        {name}
      </Link>
    ) : (
      name
    );
  };
  return (
    <>
      <p role="status">
        <b>
          {value(found.first)} → {value(found.last)}
        </b>
        {change != null && most && Math.abs(change) >= 1 && (
          <>
            {' '}
            mostly {factor(most.factor).toLowerCase()} at {where(most.factor)} ({(-most.change).toFixed(1)} points)
          </>
        )}
        {change != null && Math.abs(change) < 1 && ' hardly changed'}
      </p>
      {found.moves.length > 0 ? (
        <>
          <DataTable
            label="Changes"
            columns={[
              {
                name: 'Points',
                value: (row: FactorMove) => -row.change,
                show: (row) => points(row.change),
                number: true,
              },
              {name: 'Factor', value: (row) => factor(row.factor), show: (row) => linked(largest(row.factor))},
              {name: 'At', value: (row) => where(row.factor)},
              {
                name: 'Before',
                value: (row) => share(row.count_before, row.total_before),
                show: (row) => counts(row.count_before, row.total_before),
                number: true,
              },
              {
                name: 'Now',
                value: (row) => share(row.count_after, row.total_after),
                show: (row) => counts(row.count_after, row.total_after),
                number: true,
              },
            ]}
            rows={found.factors}
            id={(row) => row.factor}
            file={`changes-${found.name}.csv`}
          />
          <Small>Counts of the {found.factors[0]?.days ?? 7} days that end on each day.</Small>{' '}
          <Button tone="link" onPress={() => setAll(!all)}>
            {all ? 'Hide providers' : `By provider (${found.moves.length})`}
          </Button>
          {all && (
            <DataTable
              label="Changes by provider"
              columns={[
                {name: 'Points', value: (row: Move) => -row.change, show: (row) => points(row.change), number: true},
                {name: 'Factor', value: (row) => factor(row.factor), show: (row) => linked(row)},
                {name: 'At', value: (row) => row.label},
                {
                  name: 'Estimate before',
                  value: (row) => row.measure_before,
                  show: (row) => (row.measure_before == null ? '' : measured(row.measure_before, row.unit)),
                  number: true,
                },
                {
                  name: 'Estimate now',
                  value: (row) => row.measure_after,
                  show: (row) => (row.measure_after == null ? '' : measured(row.measure_after, row.unit)),
                  number: true,
                },
              ]}
              rows={found.moves}
              id={(row) => row.factor + row.provider}
              file={`changes-by-provider-${found.name}.csv`}
            />
          )}
        </>
      ) : (
        <Notice title="No changes">The factors of both days are the same.</Notice>
      )}
      {found.streams.length > 0 && (
        <Marks aria-label="By stream">
          {found.streams.slice(0, 5).map((each) => (
            <li key={each.factor + each.stream}>
              {factor(each.factor)} of <b>{each.stream || 'no stream'}</b>: {each.before} a day → {each.after} a day
            </li>
          ))}
        </Marks>
      )}
      {found.annotations.length > 0 && (
        <Marks aria-label="Annotations">
          {found.annotations.map((annotation) => (
            <li key={annotation.day + annotation.kind + annotation.text}>
              {day(annotation.day)} <Small>{words(annotation.kind)}</Small> {annotation.text}
            </li>
          ))}
        </Marks>
      )}
    </>
  );
}
