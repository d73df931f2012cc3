import {describe, expect, it} from 'vitest';
import type {Schemas} from '../api/client';
import {conditionDays, sentence} from './domains/sentence';
import {lineOf, measured} from '../design/format';
import {mean} from './readings/ReadingsPage';
import {toneOf} from './mailflow/ProvidersTable';

const pull = (over: Partial<Schemas['Pull']> = {}): Schemas['Pull'] => ({
  factor: 'complaints',
  provider: 'kestrelbox.example',
  label: 'Kestrelbox',
  points: 31,
  elsewhere: false,
  measured: true,
  unit: 'rate',
  measure: 0.0031,
  kinds: ['complained'],
  causes: [],
  low: 0.0024,
  high: 0.004,
  watch: 0.001,
  stop: 0.003,
  days: 7,
  ...over,
});
const reading = (over: Partial<Schemas['Reading']> = {}): Schemas['Reading'] => ({
  factors: {},
  day: '2026-11-20',
  value: 54,
  margin: 4,
  condition: 'corroded',
  mail: 1000,
  provisional: false,
  pulls: [pull()],
  ...over,
});

describe('the sentence of a domain', () => {
  it('names the heaviest pull and what it took', () => {
    const said = sentence(reading(), undefined);
    expect(said.strong).toBe('Complaints at Kestrelbox took 31 of the 46.0 missing points.');
    expect(said.rest).toBe('The estimated rate is 0.31 %, above the stop line.');
  });
  it('says that nothing is wrong when nothing is', () =>
    expect(sentence(reading({value: 99.6, pulls: [pull({points: 0.4})]}), undefined).strong).toContain('No factor'));
  it('does not judge what it cannot know', () => {
    expect(sentence(reading({value: null, pulls: []}), undefined).strong).toContain('Too little mail');
    expect(sentence(undefined, undefined).strong).toContain('No mail');
  });
});

describe('a measure', () => {
  it.each([
    [0.0031, 'rate', '0.31 %', '0.31 %'],
    [1.5, 'doublings', '2.8 × the usual volume', '2.8 ×'],
    [4, 'times', '25 % of usual opens', '25 %'],
    [2, 'faults', '2 faults', '2'],
  ])('of %d %s is read as %s', (value, unit, said, line) => {
    expect(measured(value, unit)).toBe(said);
    expect(lineOf(value, unit)).toBe(line);
  });
  it('of days that are not known is skipped of their mean', () => {
    expect(mean([80, null, 90])).toBe(85);
    expect(mean([null])).toBeNull();
  });
});

describe('how long a condition has lasted', () => {
  const days = (...conditions: Schemas['Reading']['condition'][]) =>
    conditionDays(conditions.map((condition) => reading({condition})));
  it('counts back to the day of the change', () => expect(days('sound', 'corroded', 'corroded')).toBe(2));
  it('does not guess beyond what is shown', () => expect(days('sound', 'sound')).toBeNull());
  it('is silent without mail', () => expect(days(null)).toBeNull());
});

describe('a rate against its lines', () => {
  const rate = (low: number, total = 1000) => ({value: low * 1.3, low, high: low * 2, count: 1, total});
  const lines = {watch: 0.02, stop: 0.05};
  it.each([
    [0.06, 1000, 'corroded'],
    [0.03, 1000, 'tarnished'],
    [0.019, 1000, 'ink'],
    [0.001, 50, 'soft'],
  ])('with a low end of %d of %d is %s', (low, total, tone) => expect(toneOf(rate(low, total), lines)).toBe(tone));
});
