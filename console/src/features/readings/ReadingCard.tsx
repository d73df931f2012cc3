/** A reading over time with margin and what happened, and beneath it what pulled it down. */
import {BesideField} from '../../shell/before';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Card} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {ChartView} from '../../design/ChartView';
import {day, daysBefore, factor} from '../../design/format';
import {HappenedKey, happenedOn, type Annotation} from '../../design/happened';
import {Notice} from '../../design/Notice';
import {READING_SCALE, TimeChart, upTo} from '../../design/TimeChart';
import {colour, conditions, floors} from '../../design/tokens';
import {useZoom} from '../../design/zoom';

type Reading = Schemas['Reading'];

const HEIGHT = 230;
const AXIS = {left: READING_SCALE.left, top: 6, bottom: 20}; // as TimeChart draws it

/** The conditions beside the axis: where each begins and ends. */
const Strip = styled.div`
  position: absolute;
  left: ${AXIS.left - 5}px;
  top: ${AXIS.top}px;
  bottom: ${AXIS.bottom}px;
  width: 4px;
  background: linear-gradient(
    to top,
    ${[...conditions]
      .reverse()
      .map((each, i, all) => `${colour(each)} ${floors[each]}% ${i + 1 < all.length ? floors[all[i + 1]!] : 100}%`)
      .join(', ')}
  );
`;

interface ReadingCardProps {
  readings: Reading[];
  provider: string;
  providers: {value: string; label: string}[];
  onProvider: (provider: string) => void;
  file: string;
  annotations?: Annotation[];
  /** Readings of the period before, which is so many days earlier; shown beside them. */
  before?: {days: number; readings: Reading[]};
  /** A day of the chart was chosen. */
  onDay?: (day: string) => void;
}

export function ReadingCard({
  readings,
  provider,
  providers,
  onProvider,
  file,
  annotations = [],
  before,
  onDay,
}: ReadingCardProps) {
  const earlier = new Map((before?.readings ?? []).map((each) => [each.day, each.value ?? null]));
  const beforeOf = (row: Reading) => (before ? (earlier.get(daysBefore(row.day, before.days)) ?? null) : null);
  const zoom = useZoom(readings.map((each) => each.day));
  const shown = readings.filter((each) => zoom.shows(each.day));
  const known = readings.filter((each) => each.value != null);
  return (
    <Card
      title="Reading"
      note="with margin"
      actions={
        <>
          <BesideField />
          <Choice label="Mailbox provider" value={provider} options={providers} onChange={onProvider} />
        </>
      }
    >
      {known.length === 0 ? (
        <Notice title="Too little mail for a reading">
          A reading needs about thirty recent messages at this provider.
        </Notice>
      ) : (
        <ChartView
          label="Readings by day"
          columns={[
            {name: 'Day', value: (row: Reading) => row.day},
            {name: 'Reading', value: (row) => row.value, number: true},
            {name: 'Margin', value: (row) => row.margin, number: true},
            ...(before ? [{name: 'Period before', value: beforeOf, number: true}] : []),
            {name: 'Condition', value: (row) => row.condition ?? 'too little mail'},
            {name: 'Recent mail', value: (row) => Math.round(row.mail), number: true},
            {name: 'Main factor', value: heaviest},
            {
              name: 'Annotations',
              value: (row) => happenedOn(annotations, row.day),
            },
          ]}
          rows={[...shown].reverse()}
          id={(row) => row.day}
          file={file.replace(/\.csv$/, '')}
          zoom={zoom}
        >
          <Chart readings={shown} before={before && shown.map(beforeOf)} annotations={annotations} onDay={onDay} />
          <HappenedKey annotations={annotations} first={zoom.first} last={zoom.last} />
          <PullsOverTime readings={shown} />
        </ChartView>
      )}
    </Card>
  );
}

const heaviest = (row: Reading): string => {
  const pull = row.pulls?.[0];
  return pull && pull.points >= 1 ? `${pull.points} ${factor(pull.factor).toLowerCase()}, ${pull.label}` : '';
};

function Chart({
  readings,
  before,
  annotations,
  onDay,
}: {
  readings: Reading[];
  /** Day for day. */
  before?: (number | null)[];
  annotations: Annotation[];
  onDay?: (day: string) => void;
}) {
  const days = readings.map((each) => each.day);
  const edge = (sign: -1 | 1) =>
    readings.map((each) =>
      each.value == null ? null : Math.min(100, Math.max(0, each.value + sign * (each.margin ?? 0))),
    );
  return (
    <div style={{position: 'relative'}}>
      <Strip />
      <TimeChart
        label={`Readings from ${day(days[0]!)} to ${day(days.at(-1)!)}; the table has the figures`}
        days={days}
        height={HEIGHT}
        {...READING_SCALE}
        band={{low: edge(-1), high: edge(1)}}
        curves={[
          ...(before ? [{name: 'before', values: before, tone: 'soft' as const, dashed: true}] : []),
          {name: 'reading', values: readings.map((each) => each.value), tone: 'ink', width: 1.8},
        ]}
        annotations={annotations}
        texts={(at) => [...textsOf(readings[at]!), ...(before ? [`before: ${before[at] ?? 'no reading'}`] : [])]}
        onDay={onDay}
      />
    </div>
  );
}

function textsOf(each: Reading): string[] {
  const value = each.value == null ? 'too little mail' : `${each.value} ± ${each.margin}, ${each.condition}`;
  return [
    `${day(each.day)}: ${value}`,
    ...[heaviest(each)].filter(Boolean),
    ...(each.provisional ? ['The day is not over yet.'] : []),
  ];
}

const HUES = ['seized', 'corroded', 'tarnished', 'sound', 'ink', 'soft'] as const;
const SHOWN = 5;

/** What each factor took, day by day, one upon the other: the factors that took most, and the rest together. */
function PullsOverTime({readings}: {readings: Reading[]}) {
  const totals = new Map<string, number>();
  for (const each of readings)
    for (const [name, points] of Object.entries(each.factors ?? {})) totals.set(name, (totals.get(name) ?? 0) + points);
  const chosen: string[] = [...totals]
    .sort((a, b) => b[1] - a[1])
    .slice(0, SHOWN)
    .map(([name]) => name);
  if (!chosen.length) return null;
  const pointsOf = (each: Reading, name: string): number =>
    Object.entries(each.factors ?? {}).reduce(
      (sum, [of, points]) => ((chosen.includes(of) ? of : 'rest') === name ? sum + points : sum),
      0,
    );
  const parts = [...chosen, ...(totals.size > chosen.length ? ['rest'] : [])];
  const most = Math.max(1, ...readings.map((each) => Object.values(each.factors ?? {}).reduce((a, b) => a + b, 0)));
  return (
    <figure style={{margin: 0}}>
      <TimeChart
        label={`Points lost to ${chosen.map((name) => factor(name)).join(', ')}, by day`}
        days={readings.map((each) => each.day)}
        height={110}
        left={AXIS.left}
        axis={false}
        {...upTo(most, {down: true, marks: 3})}
        stacked={parts.map((name, i) => ({
          name,
          values: readings.map((each) => pointsOf(each, name)),
          tone: HUES[i]!,
        }))}
        texts={(at) => [
          day(readings[at]!.day),
          ...parts
            .map((name) => [pointsOf(readings[at]!, name), name] as const)
            .filter(([points]) => points > 0.05)
            .map(([points, name]) => `${points.toFixed(1)} ${name === 'rest' ? 'others' : factor(name).toLowerCase()}`),
        ]}
      />
      <Legend>
        {parts.map((name, i) => (
          <span key={name} data-chart-text>
            <i style={{background: colour(HUES[i]!)}} /> {name === 'rest' ? 'others' : factor(name).toLowerCase()}
          </span>
        ))}
      </Legend>
    </figure>
  );
}
const Legend = styled.figcaption`
  display: flex;
  flex-wrap: wrap;
  gap: 2px 14px;
  margin-left: ${AXIS.left}px;
  font-size: 12px;
  color: ${colour('soft')};
  i {
    display: inline-block;
    width: 9px;
    height: 9px;
    margin-right: 3px;
    opacity: 0.75;
  }
`;
