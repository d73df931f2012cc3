/**
 * A chart over days or moments: curves, areas, columns, what happened, and the figures of the day under the pointer.
 *
 * The figures of each day can be read by keyboard too: the chart is a slider whose value is a day. What is drawn does not
 * change while the pointer moves; only the cursor and its figures do.
 */
import {scaleLinear, type ScaleLinear} from 'd3-scale';
import {area, curveStepAfter, line} from 'd3-shape';
import {memo, useId, useLayoutEffect, useMemo, useRef, useState, type KeyboardEvent, type PointerEvent} from 'react';
import styled from 'styled-components';
import {count, day} from './format';
import {happenedOn, isStep, labelRows, lettersByDay, type Annotation} from './happened';
import {colour, type Colour} from './tokens';

type Values = (number | null | undefined)[];

interface Named {
  name: string;
  values: Values;
  tone: Colour;
  /** Writes a value beside the pointer. Without it, none is shown there. */
  format?: (value: number) => string;
}
interface Curve extends Named {
  dashed?: boolean;
  /** Stays at a value until the next. */
  stepped?: boolean;
  /** A point at each value. */
  dotted?: boolean;
  /** Goes on over days without a value; without it the curve has a gap there. */
  bridged?: boolean;
  /** The area below it is filled. */
  filled?: boolean;
  width?: number;
}
interface Part extends Named {
  hatched?: boolean;
}
interface Span {
  from: string;
  to: string;
}

export interface TimeChartProps {
  /** What it shows, for whoever does not see it. */
  label: string;
  /** Days (ISO) or moments in order, one for each value. */
  days: string[];
  height: number;
  /** From 0 to `high`, with marks; `down` puts 0 at the top. */
  scale: {high: number; ticks: number[]; format?: (value: number) => string; down?: boolean};
  curves?: Curve[];
  /** From one value to another, behind the curves. */
  band?: {low: Values; high: Values};
  /** Areas one upon the other. */
  stacked?: Part[];
  /** Columns one upon the other. */
  columns?: Part[];
  /** Horizontal lines: of the grid, and those that must not be crossed. */
  grid?: number[];
  limit?: number;
  /** Shaded periods. */
  spans?: Span[];
  annotations?: Annotation[];
  /** What is shown beside the pointer instead of the values of the curves; the first text is the heading. */
  texts?: (at: number) => string[];
  onDay?: (day: string) => void;
  /** Pixels left of the plot, and whether its days are written below. */
  left?: number;
  axis?: boolean;
  /** Writes the days below; dates of the calendar without it. */
  written?: (day: string) => string;
}

const Root = styled.div`
  position: relative;
  &:focus-visible {
    outline: 2px solid ${colour('rust')};
    outline-offset: 2px;
  }
  svg {
    display: block;
    width: 100%;
    height: auto;
    overflow: visible;
  }
  text {
    font-size: 11px;
    fill: ${colour('soft')};
  }
`;
const Tip = styled.div`
  position: absolute;
  top: 4px;
  z-index: 1;
  pointer-events: none;
  background: ${colour('sheet')};
  border: 1px solid ${colour('line')};
  padding: 4px 8px;
  font-size: 12px;
  line-height: 1.35;
  width: max-content;
  max-width: 34ch;
  p {
    margin: 0;
    color: ${colour('soft')};
  }
  p:first-child {
    color: ${colour('ink')};
    font-weight: 600;
  }
`;

/** The scale of readings, with the floors of conditions. */
export const READING_SCALE = {scale: {high: 100, ticks: [0, 35, 60, 80, 100]}, grid: [35, 60, 80], left: 34};

/** A scale from 0 to the first round number that holds `most`, in about so many marks. */
export function upTo(most: number, {down = false, marks = 4} = {}) {
  const scale = scaleLinear([0, most], [0, 1]).nice(marks);
  const ticks = scale.ticks(marks).filter(Number.isInteger); // they count something
  return {scale: {high: scale.domain()[1]!, ticks, format: count, down}};
}

const TOP = 6;
const RIGHT = 8;
const BELOW = 20; // pixels for the days
const DAY_GAP = 72; // pixels between two written days, at least
const UNMEASURED = 600; // pixels, where nothing is laid out
const NARROW = 360; // pixels; a plot with its figures below
const SAME_DAY = 7; // pixels that a shaded single day is wide

/** The width of an element, now and whenever it changes. */
function useWidth() {
  const ref = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  useLayoutEffect(() => {
    const element = ref.current!;
    setWidth(element.clientWidth || UNMEASURED);
    if (typeof ResizeObserver === 'undefined') return;
    const observer = new ResizeObserver(() => setWidth(element.clientWidth || UNMEASURED));
    observer.observe(element);
    return () => observer.disconnect();
  }, []);
  return {ref, width};
}

const moment = (iso: string): number => Date.parse(iso.length === 10 ? `${iso}T00:00:00Z` : iso);

/** Where each day is between two edges, in pixels; columns stay inside with half their width. */
function placesOf(days: string[], from: number, to: number, isColumns: boolean): number[] {
  const inset = isColumns ? (to - from) / days.length / 2 : 0;
  const times = days.map(moment);
  const place = scaleLinear([times[0] ?? 0, times.at(-1) ?? 0], [from + inset, Math.max(from, to - inset)]);
  return times.map((time) => (times.length > 1 ? place(time) : (from + to) / 2));
}

/** Which of `n` days are written below a plot of `width` pixels: the first, the last, and evenly between. */
export function writtenDays(n: number, width: number): number[] {
  const most = Math.max(2, Math.floor(width / DAY_GAP) + 1);
  if (n <= most) return Array.from({length: n}, (_, i) => i);
  return Array.from({length: most}, (_, i) => Math.round((i * (n - 1)) / (most - 1)));
}

/** The day whose place is nearest to `x`. */
export function nearest(places: number[], x: number): number {
  let [low, high] = [0, places.length - 1];
  while (high - low > 1) {
    const middle = (low + high) >> 1;
    if (places[middle]! < x) low = middle;
    else high = middle;
  }
  return x - places[low]! < places[high]! - x ? low : high;
}

export function TimeChart(props: TimeChartProps) {
  const {label, days, height, left = 40, annotations = [], onDay, written = day} = props;
  const {ref, width} = useWidth();
  const [at, setAt] = useState<number | null>(null);
  const isColumns = !!props.columns?.length;
  const places = useMemo(() => placesOf(days, left, width - RIGHT, isColumns), [days, left, width, isColumns]);
  const shown = at != null && at >= 0 && at < days.length ? at : null; // days may have become fewer, or none
  const texts = (of: number): string[] => [
    ...(props.texts ? props.texts(of) : valuesOf(props, of, written)),
    ...[happenedOn(annotations, days[of]!.slice(0, 10))].filter(Boolean),
  ];
  const move = (event: PointerEvent) => {
    const box = event.currentTarget.getBoundingClientRect();
    setAt(nearest(places, ((event.clientX - box.left) * width) / (box.width || width)));
  };
  const press = (event: KeyboardEvent) => {
    const steps: Record<string, number> = {ArrowLeft: -1, ArrowRight: 1, PageDown: -7, PageUp: 7};
    const ends: Record<string, number> = {Home: 0, End: days.length - 1};
    const to = event.key in ends ? ends[event.key]! : (shown ?? days.length - 1) + (steps[event.key] ?? NaN);
    if (event.key === 'Escape') setAt(null);
    else if (event.key === 'Enter' && shown != null) onDay?.(days[shown]!);
    else if (Number.isNaN(to)) return;
    else setAt(Math.min(days.length - 1, Math.max(0, to)));
    event.preventDefault();
  };
  const read = shown ?? Math.max(0, days.length - 1);
  return (
    <Root
      ref={ref}
      role="slider"
      tabIndex={0}
      aria-label={label}
      aria-valuemin={0}
      aria-valuemax={Math.max(0, days.length - 1)}
      aria-valuenow={read}
      aria-valuetext={days.length ? texts(read).join('; ') : 'no days'}
      style={{minHeight: height, cursor: onDay ? 'pointer' : undefined}}
      onPointerMove={move}
      onPointerLeave={() => setAt(null)}
      onBlur={() => setAt(null)}
      onKeyDown={press}
      onClick={() => shown != null && onDay?.(days[shown]!)}
    >
      {width > 0 && <Drawing {...props} width={width} left={left} places={places} written={written} />}
      {shown != null && width > 0 && (
        <>
          <Cursor x={places[shown]!} props={props} at={shown} width={width} />
          <Tip style={side(places[shown]!, width)} aria-hidden>
            {texts(shown).map((text, i) => (
              <p key={i}>{text}</p>
            ))}
          </Tip>
        </>
      )}
    </Root>
  );
}

/** Beside the cursor; below a plot that is too narrow to have both. */
const side = (x: number, width: number) =>
  width < NARROW ? {left: 0, top: '100%', minWidth: width} : x > width / 2 ? {right: width - x + 10} : {left: x + 10};

/** The day, and the values that have a format. */
function valuesOf(
  {days, curves = [], stacked = [], columns = []}: TimeChartProps,
  at: number,
  written: (day: string) => string,
) {
  const named = [...curves, ...stacked, ...columns].flatMap(({name, values, format}) => {
    const value = values[at];
    return format && value != null ? [`${name}: ${format(value)}`] : [];
  });
  return [written(days[at]!), ...named];
}

type Y = ScaleLinear<number, number>;
const scaleOf = ({scale, height, axis = true}: TimeChartProps): Y => {
  const bottom = height - (axis ? BELOW : 4);
  return scaleLinear([0, scale.high], scale.down ? [TOP, bottom] : [bottom, TOP]).clamp(true);
};

function Cursor({x, props, at, width}: {x: number; props: TimeChartProps; at: number; width: number}) {
  const y = scaleOf(props);
  return (
    <svg
      viewBox={`0 0 ${width} ${props.height}`}
      aria-hidden
      data-cursor
      style={{position: 'absolute', inset: 0, pointerEvents: 'none'}}
    >
      <line x1={x} x2={x} y1={TOP} y2={props.height - (props.axis === false ? 4 : BELOW)} stroke={colour('rust')} />
      {(props.curves ?? []).map(({name, values, tone}) =>
        values[at] == null ? null : <circle key={name} cx={x} cy={y(values[at])} r={3} fill={colour(tone)} />,
      )}
    </svg>
  );
}

type DrawingProps = TimeChartProps & {width: number; left: number; places: number[]; written: (day: string) => string};

const Drawing = memo(function Drawing(props: DrawingProps) {
  const {days, height, scale, width, left, places, written, axis = true} = props;
  const hatch = useId();
  const y = scaleOf(props);
  const bottom = height - (axis ? BELOW : 4);
  const plot = Math.max(1, width - left - RIGHT);
  const x = (at: number) => places[at] ?? left;
  const write = scale.format ?? String;
  return (
    <svg viewBox={`0 0 ${width} ${height}`} aria-hidden>
      {(props.columns ?? []).some((part) => part.hatched) && (
        <pattern id={hatch} width="4" height="4" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="2" height="4" fill={colour('corroded')} />
        </pattern>
      )}
      {(props.grid ?? []).map((value) => (
        <line
          key={value}
          x1={left}
          x2={width - RIGHT}
          y1={y(value)}
          y2={y(value)}
          stroke={colour('line')}
          strokeDasharray="2 4"
        />
      ))}
      {scale.ticks.map((value) => (
        <text key={value} x={left - 8} y={y(value)} dy="0.32em" textAnchor="end">
          {write(value)}
        </text>
      ))}
      <line
        x1={left}
        x2={width - RIGHT}
        y1={scale.down ? TOP : bottom}
        y2={scale.down ? TOP : bottom}
        stroke={colour('line')}
      />
      {axis && <Days days={days} x={x} plot={plot} y={height - 5} written={written} />}
      <Spans spans={props.spans ?? []} days={days} x={x} top={TOP} bottom={bottom} />
      <Happened annotations={props.annotations ?? []} days={days} x={x} bottom={bottom} />
      {props.limit != null && (
        <line
          x1={left}
          x2={width - RIGHT}
          y1={y(props.limit)}
          y2={y(props.limit)}
          stroke={colour('corroded')}
          strokeDasharray="3 3"
        />
      )}
      {props.band && <Band band={props.band} x={x} y={y} />}
      <Stacked parts={props.stacked ?? []} n={days.length} x={x} y={y} />
      <Columns parts={props.columns ?? []} n={days.length} x={x} y={y} plot={plot} hatch={hatch} />
      {(props.curves ?? []).map((curve) => (
        <Path key={curve.name} curve={curve} x={x} y={y} />
      ))}
    </svg>
  );
});

type X = (at: number) => number;

/** The index of the first day from a date on; of the last day where all are before it. */
function indexFrom(days: string[], date: string): number {
  const at = days.findIndex((each) => each >= date);
  return at < 0 ? days.length - 1 : at;
}

function Days({
  days,
  x,
  plot,
  y,
  written,
}: {
  days: string[];
  x: X;
  plot: number;
  y: number;
  written: (day: string) => string;
}) {
  const shown = writtenDays(days.length, plot);
  const ends = (i: number) =>
    shown.length < 2 ? 'middle' : i === 0 ? 'start' : i === shown.length - 1 ? 'end' : 'middle';
  // Moments are not evenly apart: those that would touch the one before are left out.
  let free = -Infinity;
  return shown.map((at, i) => {
    const isLast = i === shown.length - 1;
    if (!isLast && (x(at) < free || (i > 0 && x(at) > x(shown.at(-1)!) - DAY_GAP))) return null;
    free = x(at) + DAY_GAP * 0.8;
    return (
      <text key={at} x={x(at)} y={y} textAnchor={ends(i)}>
        {written(days[at]!)}
      </text>
    );
  });
}

function Path({curve, x, y}: {curve: Curve; x: X; y: Y}) {
  const {values, tone} = curve;
  const is = (at: number) => values[at] != null;
  const known = values.flatMap((_, at) => (is(at) ? [at] : []));
  const drawn = curve.bridged ? known : values.map((_, at) => at);
  const high = (at: number) => y(values[at] ?? 0);
  const of = line<number>(x, high).defined(is);
  const below = area<number>(x, y.range()[0]!, high).defined(is);
  if (curve.stepped) {
    of.curve(curveStepAfter);
    below.curve(curveStepAfter);
  }
  // A value with gaps on both sides would be a line without length.
  const isAlone = (at: number) => (curve.bridged ? known.length === 1 : !is(at - 1) && !is(at + 1));
  return (
    <>
      {curve.filled && <path d={below(drawn) ?? ''} fill={colour(tone)} fillOpacity={0.14} stroke="none" />}
      <path
        d={of(drawn) ?? ''}
        fill="none"
        stroke={colour(tone)}
        strokeWidth={curve.width ?? 1.6}
        strokeDasharray={curve.dashed ? '4 3' : undefined}
        strokeLinejoin="round"
      />
      {known
        .filter((at) => curve.dotted || isAlone(at))
        .map((at) => (
          <circle key={at} cx={x(at)} cy={high(at)} r={curve.dotted ? 2.8 : 1.8} fill={colour(tone)} />
        ))}
    </>
  );
}

function Band({band, x, y}: {band: {low: Values; high: Values}; x: X; y: Y}) {
  const d = area<number>()
    .defined((at) => band.low[at] != null && band.high[at] != null)
    .x(x)
    .y0((at) => y(band.low[at] ?? 0))
    .y1((at) => y(band.high[at] ?? 0))(band.low.map((_, at) => at));
  return <path d={d ?? ''} fill={colour('soft')} fillOpacity={0.2} stroke="none" />;
}

/** The sums below each part, by day. */
function grounds(parts: Part[], n: number): number[][] {
  const out: number[][] = [new Array<number>(n).fill(0)];
  for (const part of parts) out.push(out.at(-1)!.map((ground, at) => ground + (part.values[at] ?? 0)));
  return out;
}

function Stacked({parts, n, x, y}: {parts: Part[]; n: number; x: X; y: Y}) {
  const sums = grounds(parts, n);
  return parts.map((part, i) => {
    const d = area<number>()
      .x(x)
      .y0((at) => y(sums[i]![at]!))
      .y1((at) => y(sums[i + 1]![at]!))(sums[0]!.map((_, at) => at));
    return (
      <path
        key={part.name}
        d={d ?? ''}
        fill={colour(part.tone)}
        fillOpacity={0.55}
        stroke={colour(part.tone)}
        strokeWidth={1}
      />
    );
  });
}

interface ColumnsProps {
  parts: Part[];
  n: number;
  x: X;
  y: Y;
  plot: number;
  hatch: string;
}
function Columns({parts, n, x, y, plot, hatch}: ColumnsProps) {
  const sums = grounds(parts, n);
  const wide = Math.max(1, (plot / Math.max(1, n)) * 0.8);
  return parts.map((part, i) => (
    <g key={part.name} fill={part.hatched ? `url(#${hatch})` : colour(part.tone)}>
      {part.values.map((value, at) => {
        if (!value) return null;
        const tall = Math.max(1, y(sums[i]![at]!) - y(sums[i + 1]![at]!));
        return <rect key={at} x={x(at) - wide / 2} y={y(sums[i]![at]!) - tall} width={wide} height={tall} />;
      })}
    </g>
  ));
}

function Spans({spans, days, x, top, bottom}: {spans: Span[]; days: string[]; x: X; top: number; bottom: number}) {
  const [begin, end] = [days[0] ?? '', days.at(-1) ?? ''];
  return spans
    .filter(({from, to}) => from <= end && to >= begin)
    .map(({from, to}, i) => {
      const [one, other] = [from, to].map((iso) => x(indexFrom(days, iso))) as [number, number];
      const wide = Math.max(SAME_DAY, other - one);
      return (
        <rect
          key={i}
          x={(one + other - wide) / 2}
          y={top}
          width={wide}
          height={bottom - top}
          fill={colour('corroded')}
          fillOpacity={0.18}
        />
      );
    });
}

interface HappenedProps {
  annotations: Annotation[];
  days: string[];
  x: X;
  bottom: number;
}
/**
 * A line with letters for each day on which something happened; a label that would cover another goes below it.
 * Steps of a warm-up are ticks on the axis: there may be one each day.
 */
function Happened({annotations, days, x, bottom}: HappenedProps) {
  const dates = days.map((each) => each.slice(0, 10));
  const [first, last] = [dates[0] ?? '', dates.at(-1) ?? ''];
  const others = annotations.filter((each) => !isStep(each));
  const steps = lettersByDay(annotations.filter(isStep), first, last);
  const labels = lettersByDay(others, first, last);
  const places = labels.map(([date]) => x(indexFrom(dates, date)));
  const rows = labelRows(labels.map(([, letters], i) => [places[i]!, letters]));
  return (
    <>
      {steps.map(([date]) => {
        const at = x(indexFrom(dates, date));
        return <line key={date} x1={at} x2={at} y1={bottom} y2={bottom - 6} stroke={colour('soft')} data-step />;
      })}
      {labels.map(([date, letters], i) => (
        <g key={date}>
          <line x1={places[i]} x2={places[i]} y1={TOP} y2={bottom} stroke={colour('soft')} strokeDasharray="1 3" />
          <text x={places[i]} y={TOP + 10 + 12 * rows[i]!} textAnchor="middle" style={{fill: colour('ink')}}>
            {letters}
          </text>
        </g>
      ))}
    </>
  );
}
