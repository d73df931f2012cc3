/** A reading over time with margin and what happened, and beneath it what pulled it down. */
import {
  Area,
  AreaChart,
  CartesianGrid,
  ComposedChart,
  Line,
  ResponsiveContainer,
  Tooltip,
  XAxis,
  YAxis,
} from 'recharts';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Card} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {ChartView} from '../../design/ChartView';
import {day, factor} from '../../design/format';
import {HappenedKey, happenedLines, happenedOn, type Annotation} from '../../design/happened';
import {Notice} from '../../design/Notice';
import {colour, conditions, floors} from '../../design/tokens';
import {useZoom} from '../../design/zoom';

type Reading = Schemas['Reading'];

const Tip = styled.div`
  background: ${colour('sheet')};
  border: 1px solid ${colour('line')};
  padding: 6px 10px;
  font-size: 12px;
  p {
    color: ${colour('soft')};
  }
`;

const AXIS = {left: 34, bottom: 24, top: 6};

/** The conditions beside the axis: where each begins and ends. */
const Strip = styled.div`
  position: absolute;
  left: ${AXIS.left - 6}px;
  top: ${AXIS.top}px;
  bottom: ${AXIS.bottom}px;
  width: 5px;
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
  onDay,
}: ReadingCardProps) {
  const zoom = useZoom(readings.map((each) => each.day));
  const shown = readings.filter((each) => zoom.shows(each.day));
  const known = readings.filter((each) => each.value != null);
  return (
    <Card
      title="Reading"
      note="with margin"
      actions={
        <>
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
          <Chart readings={shown} annotations={annotations} onDay={onDay} />
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
  annotations,
  onDay,
}: {
  readings: Reading[];
  annotations: Annotation[];
  onDay?: (day: string) => void;
}) {
  const data = readings.map((each) => ({
    ...each,
    band:
      each.value == null
        ? null
        : [Math.max(0, each.value - (each.margin ?? 0)), Math.min(100, each.value + (each.margin ?? 0))],
  }));
  const tick = {fontSize: 11, fill: colour('soft')};
  const days = readings.map((each) => each.day);
  return (
    <div
      style={{height: 230, position: 'relative'}}
      role="img"
      aria-label={`Readings from ${day(days[0]!)} to ${day(days.at(-1)!)}; the table has the figures`}
    >
      <Strip />
      <ResponsiveContainer>
        <ComposedChart
          data={data}
          margin={{top: AXIS.top, right: 8, bottom: 0, left: 0}}
          onClick={(state) => state?.activeLabel != null && onDay?.(String(state.activeLabel))}
          style={onDay ? {cursor: 'pointer'} : undefined}
        >
          <CartesianGrid
            vertical={false}
            stroke={colour('line')}
            strokeDasharray="2 4"
            horizontalValues={[35, 60, 80]}
          />
          <XAxis
            dataKey="day"
            height={AXIS.bottom}
            tickFormatter={day}
            tick={tick}
            tickLine={false}
            stroke={colour('line')}
            minTickGap={56}
          />
          <YAxis
            width={AXIS.left}
            domain={[0, 100]}
            ticks={[0, 35, 60, 80, 100]}
            tick={tick}
            tickLine={false}
            axisLine={false}
          />
          <Area dataKey="band" fill={colour('soft')} fillOpacity={0.2} stroke="none" isAnimationActive={false} />
          <Line dataKey="value" stroke={colour('ink')} strokeWidth={1.8} dot={false} isAnimationActive={false} />
          {happenedLines(annotations, days)}
          <Tooltip
            cursor={{stroke: colour('rust')}}
            content={({payload}) => {
              const each = payload?.[0]?.payload as Reading | undefined;
              if (!each) return null;
              return (
                <Tip>
                  <b>
                    {day(each.day)}:{' '}
                    {each.value == null ? 'too little mail' : `${each.value} ± ${each.margin}, ${each.condition}`}
                  </b>
                  <p>{heaviest(each)}</p>
                  {each.provisional && <p>The day is not over yet.</p>}
                  {annotations
                    .filter((annotation) => annotation.day === each.day)
                    .map((annotation) => (
                      <p key={annotation.kind + annotation.text}>{annotation.text}</p>
                    ))}
                </Tip>
              );
            }}
          />
        </ComposedChart>
      </ResponsiveContainer>
    </div>
  );
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
  const data = readings.map((each) => {
    const row: Record<string, number | string> = {day: each.day, rest: 0};
    for (const name of chosen) row[name] = 0;
    for (const [name, points] of Object.entries(each.factors ?? {})) {
      const at = chosen.includes(name) ? name : 'rest';
      row[at] = Number(row[at]) + points;
    }
    return row;
  });
  const parts = [...chosen, ...(totals.size > chosen.length ? ['rest'] : [])];
  const tick = {fontSize: 11, fill: colour('soft')};
  return (
    <figure style={{margin: 0}}>
      <div
        style={{height: 110}}
        role="img"
        aria-label={`Points lost to ${chosen.map((name) => factor(name)).join(', ')}, by day`}
      >
        <ResponsiveContainer>
          <AreaChart data={data} margin={{top: 4, right: 8, bottom: 0, left: 0}}>
            <XAxis dataKey="day" hide />
            <YAxis width={AXIS.left} tick={tick} tickLine={false} axisLine={false} reversed allowDecimals={false} />
            {parts.map((name, i) => (
              <Area
                key={name}
                dataKey={name}
                stackId="pulls"
                stroke={colour(HUES[i]!)}
                fill={colour(HUES[i]!)}
                fillOpacity={0.55}
                strokeWidth={1}
                isAnimationActive={false}
              />
            ))}
            <Tooltip
              cursor={{stroke: colour('rust')}}
              content={({payload, label}) =>
                payload?.length ? (
                  <Tip>
                    <b>{day(String(label))}</b>
                    {payload
                      .filter((part) => Number(part.value) > 0.05)
                      .map((part) => (
                        <p key={String(part.dataKey)}>
                          {Number(part.value).toFixed(1)}{' '}
                          {part.dataKey === 'rest' ? 'others' : factor(String(part.dataKey)).toLowerCase()}
                        </p>
                      ))}
                  </Tip>
                ) : null
              }
            />
          </AreaChart>
        </ResponsiveContainer>
      </div>
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
