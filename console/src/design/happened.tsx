/** What happened on the days of a chart: a sign for each kind on the time axis, and the texts for tips and tables. */
import type {Schemas} from '../api/client';
import {Small} from './Card';

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
  warmup_step: '|',
};
const LETTER = 7; // pixels, at most

const signs = (annotations: Annotation[]): string =>
  [...new Set(annotations.map((annotation) => SIGN[annotation.kind]))].join('');

/** A step of a warm-up plan. */
export const isStep = ({kind}: Annotation): boolean => kind === 'warmup_step';

/** The letters of each day within two days: several annotations of a day share a line. */
export function lettersByDay(annotations: Annotation[], first: string, last: string): [string, string][] {
  const days = new Map<string, Annotation[]>();
  for (const annotation of annotations)
    if (annotation.day >= first && annotation.day <= last)
      days.set(annotation.day, [...(days.get(annotation.day) ?? []), annotation]);
  return [...days].map(([day, those]) => [day, signs(those)]);
}

/** The row of each label (its place in pixels, its letters), so that none covers another: it goes below one it would reach. */
export function labelRows(labels: [number, string][]): number[] {
  const rows = labels.map(() => 0);
  const ends: number[] = []; // of the last label in each row
  const inOrder = labels.map((_, i) => i).sort((a, b) => labels[a]![0] - labels[b]![0]);
  for (const i of inOrder) {
    const [place, letters] = labels[i]!;
    const half = (letters.length * LETTER + 4) / 2;
    const free = ends.findIndex((end) => end <= place - half);
    const row = free < 0 ? ends.length : free;
    ends[row] = place + half;
    rows[i] = row;
  }
  return rows;
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
  warmup_step: 'warm-up step',
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
