/** What happened on the days of a chart: a letter for each kind on the time axis, and the texts for tips and tables. */
import {ReferenceLine} from 'recharts';
import type {Schemas} from '../api/client';
import {Small} from './Card';
import {colour} from './tokens';

export type Annotation = Schemas['Annotation'];

const SIGN: Record<Annotation['kind'], string> = {
  annotation: 'n',
  record: 'r',
  finding: 'f',
  shift: 's',
  outage: 'o',
  policy: 'p',
  sending_ip: 'a',
  volume: 'v',
};
const LETTER = 7; // pixels, at most
const PLOT = 560; // pixels that a plot is wide at least on a desktop

const signs = (annotations: Annotation[]): string =>
  [...new Set(annotations.map((annotation) => SIGN[annotation.kind]))].join('');

/** Annotations of each day within two days, and their letters: several of a day share a line. */
function byDay(annotations: Annotation[], first: string, last: string): [string, Annotation[]][] {
  const days = new Map<string, Annotation[]>();
  for (const annotation of annotations)
    if (annotation.day >= first && annotation.day <= last)
      days.set(annotation.day, [...(days.get(annotation.day) ?? []), annotation]);
  return [...days];
}

/** The row of each label, so that none covers another: a label goes below one that would reach it. */
export function labelRows(labels: [string, string][], days: string[], width = PLOT): Map<string, number> {
  const rows = new Map<string, number>();
  const ends: number[] = []; // of the last label in each row, in days
  for (const [day, label] of [...labels].sort(([a], [b]) => a.localeCompare(b))) {
    const half = ((label.length * LETTER + 4) / 2 / width) * days.length;
    const at = days.indexOf(day);
    const free = ends.findIndex((end) => end <= at - half);
    const row = free < 0 ? ends.length : free;
    ends[row] = at + half;
    rows.set(day, row);
  }
  return rows;
}

/** The lines of a chart whose axis has these days, each with its letters. `width`: of the plot in pixels, at least. */
export function happenedLines(annotations: Annotation[], days: string[], width = PLOT) {
  if (!days.length) return [];
  const happened = byDay(annotations, days[0]!, days.at(-1)!);
  const rows = labelRows(
    happened.map(([date, those]) => [date, signs(those)]),
    days,
    width,
  );
  return happened.map(([date, those]) => (
    <ReferenceLine
      key={`happened ${date}`}
      x={date}
      stroke={colour('soft')}
      strokeDasharray="1 3"
      label={{
        value: signs(those),
        position: 'insideTop',
        dy: 12 * (rows.get(date) ?? 0),
        fontSize: 11,
        fill: colour('ink'),
      }}
    />
  ));
}

const WORDS: Record<Annotation['kind'], string> = {
  annotation: 'annotation',
  record: 'record changed',
  finding: 'finding',
  shift: 'shift',
  outage: 'provider outage',
  policy: 'policy changed',
  sending_ip: 'new sending address',
  volume: 'volume changed',
};

/** What the letters above a chart mean: those that are there. */
export function HappenedKey({annotations, first, last}: {annotations: Annotation[]; first: string; last: string}) {
  const kinds = new Set(annotations.filter(({day}) => day >= first && day <= last).map(({kind}) => kind));
  if (!kinds.size) return null;
  return (
    <Small as="p" style={{margin: '4px 0 0'}}>
      {[...kinds].map((kind) => `${SIGN[kind]} ${WORDS[kind]}`).join(', ')}
    </Small>
  );
}

/** The texts of a day, one after the other. */
export const happenedOn = (annotations: Annotation[], day: string): string =>
  annotations
    .filter((annotation) => annotation.day === day)
    .map((annotation) => annotation.text)
    .join('; ');
