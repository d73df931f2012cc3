/** One rate day by day, a small plot for each provider on the same scale, with the shifts that were found. */
import {useState} from 'react';
import type {Schemas} from '../../api/client';
import {useFlowDays, useShifts, type Which} from './queries';
import {Card, Small} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {ChartView} from '../../design/ChartView';
import {bare, count, day, daysBefore, percent} from '../../design/format';
import {Loading, Trouble} from '../../design/Notice';
import {PlotName, Plots} from '../../design/Plots';
import {TimeChart} from '../../design/TimeChart';
import {useZoom} from '../../design/zoom';
import {HappenedKey, type Annotation} from '../../design/happened';
import {BesideField, useBeside} from '../../shell/before';
import {useAnnotations} from '../readings/queries';

type Series = Schemas['FlowSeries'];
type Shift = Schemas['Shift'];
export type RateName = 'permanent' | 'transient' | 'delayed' | 'complained' | 'unsubscribed';

const RATES: {value: RateName | 'delivered'; label: string; stop?: number}[] = [
  {value: 'permanent', label: 'Permanent bounces', stop: 0.05},
  {value: 'transient', label: 'Transient bounces'},
  {value: 'delayed', label: 'Delayed'},
  {value: 'complained', label: 'Complaints', stop: 0.003},
  {value: 'unsubscribed', label: 'Unsubscribed'},
  {value: 'delivered', label: 'Delivered, messages'},
];

const FEW = 20; // messages
const HEIGHT = 92; // pixels of one provider's plot

/** The share of each day; null on days without mail, and on those that have hardly begun: one bounce of one message. */
export function ratesOf(series: Series, name: RateName | 'delivered'): (number | null)[] {
  if (name === 'delivered') return series.delivered;
  const of = name === 'complained' || name === 'unsubscribed' ? series.delivered : series.attempted;
  const days = of.filter((n) => n > 0).sort((a, b) => a - b);
  const usual = days[Math.floor(days.length / 2)] ?? 0;
  return series[name].map((n, i) => (of[i] && of[i] >= Math.min(FEW, usual / 5) ? n / of[i] : null));
}

/** The days of a period, ISO. */
export function daysOf(first: string, length: number): string[] {
  const start = Date.parse(`${first}T00:00:00Z`);
  return Array.from({length}, (_, i) => new Date(start + i * 86_400_000).toISOString().slice(0, 10));
}

const RATE_OF_SHIFT: Partial<Record<Shift['rate'], RateName>> = {
  permanent: 'permanent',
  transient: 'transient',
  delayed: 'delayed',
  complaints: 'complained',
};

export function FlowChart({tenant, first, which}: {tenant: string; first: string; which: Which}) {
  const [rate, setRate] = useState<RateName | 'delivered'>('permanent');
  const flow = useFlowDays(tenant, first, which);
  const shifts = useShifts(tenant, 30);
  const annotations = useAnnotations(tenant, first, which.domain).data ?? [];
  const about = RATES.find((each) => each.value === rate)!;
  const days = flow.data ? daysOf(flow.data.first_day, flow.data.series[0]!.attempted.length) : [];
  const zoom = useZoom(days);
  const beside = useBeside();
  const before = useFlowDays(
    tenant,
    daysBefore(first, days.length),
    {...which, last: daysBefore(first, 1)},
    beside && days.length > 0,
  );
  const top = Math.max(
    about.stop && rate !== 'delivered' ? about.stop / 5 : 0,
    ...(flow.data?.series.flatMap((each) => ratesOf(each, rate)) ?? []).map((n) => n ?? 0),
  );
  return (
    <Card
      title="By day"
      note="same scale for every provider; shifts are shaded, letters are annotations"
      actions={
        <>
          <BesideField />
          <Choice label="Rate" value={rate} options={RATES} onChange={(value) => setRate(value as RateName)} />
        </>
      }
    >
      {flow.isPending && <Loading what="days" />}
      {flow.error && <Trouble error={flow.error} />}
      {flow.data && (
        <ChartView
          label="Mail by day"
          columns={[
            {name: 'Day', value: (row: Row) => row.day},
            {name: 'Provider', value: (row) => row.label},
            {name: 'Delivered', value: (row) => row.delivered, show: (row) => count(row.delivered), number: true},
            {name: 'Permanent', value: (row) => row.permanent, number: true},
            {name: 'Transient', value: (row) => row.transient, number: true},
            {name: 'Delayed', value: (row) => row.delayed, number: true},
            {name: 'Complaints', value: (row) => row.complained, number: true},
            {name: 'Unsubscribed', value: (row) => row.unsubscribed, number: true},
          ]}
          rows={rowsOf(flow.data.series, days).filter((row) => zoom.shows(row.day))}
          zoom={zoom}
          id={(row) => `${row.day} ${row.label}`}
          file={`days-${tenant}`}
        >
          <Plots>
            {flow.data.series.map((each) => (
              <Plot
                key={each.provider}
                series={each}
                days={days}
                shows={zoom.shows}
                annotations={annotations.filter(
                  ({provider}) => !provider || provider === each.label || each.provider === '(all)',
                )}
                before={beside ? before.data?.series.find((earlier) => earlier.provider === each.provider) : undefined}
                rate={rate}
                top={rate === 'delivered' ? Math.max(1, ...each.delivered) : top}
                stop={about.stop}
                shifts={(shifts.data ?? []).filter(
                  (shift) =>
                    shift.what === 'provider' && shift.name === each.provider && RATE_OF_SHIFT[shift.rate] === rate,
                )}
              />
            ))}
          </Plots>
          <HappenedKey annotations={annotations} first={zoom.first} last={zoom.last} />
        </ChartView>
      )}
    </Card>
  );
}

interface Row {
  day: string;
  label: string;
  delivered: number;
  permanent: number;
  transient: number;
  delayed: number;
  complained: number;
  unsubscribed: number;
}
const rowsOf = (series: Series[], days: string[]): Row[] =>
  days
    .flatMap((each, i) =>
      series.map((one) => ({
        day: each,
        label: one.label,
        delivered: one.delivered[i]!,
        permanent: one.permanent[i]!,
        transient: one.transient[i]!,
        delayed: one.delayed[i]!,
        complained: one.complained[i]!,
        unsubscribed: one.unsubscribed[i]!,
      })),
    )
    .reverse();

function Plot({
  series,
  days,
  shows,
  annotations,
  before,
  rate,
  top,
  stop,
  shifts,
}: {
  series: Series;
  /** Of the whole period. */
  days: string[];
  shows: (day: string) => boolean;
  annotations: Annotation[];
  /** The same provider in the period before, day for day. */
  before?: Series;
  rate: RateName | 'delivered';
  top: number;
  stop?: number;
  shifts: Shift[];
}) {
  const values = ratesOf(series, rate);
  const silent = rate === 'complained' && !series.reports_complaints;
  const shown = (n: number | null | undefined) =>
    n == null ? 'no mail' : rate === 'delivered' ? count(n) : percent(n);
  const last = [...values].reverse().find((n) => n != null);
  const earlier = before ? ratesOf(before, rate) : [];
  const data = days
    .map((each, i) => ({day: each, value: values[i], before: earlier[i] ?? null}))
    .filter((each) => shows(each.day));
  const end = data.at(-1)?.day ?? '';
  return (
    <div>
      <PlotName>
        <span data-chart-text>{series.label}</span> <Small>{silent ? 'no reports' : `${shown(last)} last`}</Small>
      </PlotName>
      {silent ? (
        <div style={{height: HEIGHT}} />
      ) : (
        <TimeChart
          label={`${series.label}, by day; the table has the figures`}
          days={data.map((each) => each.day)}
          height={HEIGHT}
          left={46}
          scale={{
            high: top || 1,
            ticks: [0, top || 1],
            format: (n) => (rate === 'delivered' ? count(Math.round(n)) : n ? `${bare(n)}\u00a0%` : '0'),
          }}
          limit={stop && rate !== 'delivered' && stop <= top ? stop : undefined}
          spans={shifts.map((shift) => ({from: shift.began_at.slice(0, 10), to: (shift.ended_at ?? end).slice(0, 10)}))}
          annotations={annotations}
          curves={[
            ...(before
              ? [
                  {
                    name: 'before',
                    values: data.map((each) => each.before),
                    tone: 'soft' as const,
                    dashed: true,
                    bridged: true,
                  },
                ]
              : []),
            {name: 'rate', values: data.map((each) => each.value), tone: 'ink', bridged: true},
          ]}
          texts={(at) => [
            `${day(data[at]!.day)}: ${shown(data[at]!.value)}`,
            ...(before ? [`before: ${shown(data[at]!.before)}`] : []),
          ]}
        />
      )}
    </div>
  );
}
