import {describe, expect, it} from 'vitest';
import type {Schemas} from '../api/client';
import {conditionDays, sentence} from './domains/sentence';
import {lineOf, measured} from '../design/format';
import {mean} from './readings/ReadingsPage';
import {toneOf} from './mailflow/ProvidersTable';
import {worklist} from './wall/worklist';

const pull = (over: Partial<Schemas['Pull']> = {}): Schemas['Pull'] => ({
  factor: 'complaints',
  provider: 'kestrelbox.example',
  label: 'Kestrelbox',
  points: 31,
  unit: 'rate',
  measure: 0.0031,
  low: 0.0024,
  high: 0.004,
  watch: 0.001,
  stop: 0.003,
  ...over,
});
const row = (over: Partial<Schemas['WallRow']> = {}): Schemas['WallRow'] => ({
  tenant: 't',
  tenant_name: 'T',
  name: 'd.example',
  lacks: [],
  delivered: 1000,
  cells: [
    {provider: '(all)', value: 54, margin: 4, condition: 'corroded', trend: []},
    {provider: 'kestrelbox.example', value: 31, margin: 4, condition: 'seized', trend: []},
  ],
  heaviest: null,
  faults: null,
  fault: null,
  remedy: null,
  record: null,
  ...over,
});
const reading = (over: Partial<Schemas['Reading']> = {}): Schemas['Reading'] => ({
  day: '2026-11-20',
  value: 54,
  margin: 4,
  condition: 'corroded',
  mail: 1000,
  provisional: false,
  pulls: [pull()],
  ...over,
});

describe('the worklist', () => {
  it('has nothing where nothing is wrong', () => expect(worklist([row()])).toEqual([]));

  it('takes up a broken record with the record that mends it', () => {
    const [task] = worklist([row({fault: '2 SPF records', remedy: 'Merge them.', record: 'v=spf1 -all', faults: 1})]);
    expect(task).toMatchObject({title: '2 SPF records', text: 'Merge them.', record: 'v=spf1 -all'});
  });

  it('takes up a heavy pull, at the condition of its provider', () => {
    const [task] = worklist([row({heaviest: pull()})]);
    expect(task!.condition).toBe('seized');
    expect(task!.text).toContain('0.31 % (0.24 % to 0.40 %), past its stop line of 0.30 %');
  });

  it('leaves a light pull alone', () => expect(worklist([row({heaviest: pull({points: 2})})])).toEqual([]));

  it('puts what is worse and touches more mail first', () => {
    const tasks = worklist([
      row({name: 'small.example', fault: 'x', delivered: 10}),
      row({name: 'large.example', fault: 'x', delivered: 100_000}),
      row({name: 'worse.example', heaviest: pull(), delivered: 1000}),
    ]);
    expect(tasks.map((task) => task.domain)).toEqual(['worse.example', 'large.example', 'small.example']);
  });
});

describe('the sentence of a domain', () => {
  it('names the heaviest pull and what it took', () => {
    const said = sentence(reading(), undefined);
    expect(said.strong).toBe('Complaints at Kestrelbox took 31 of the 46.0 missing points.');
    expect(said.rest).toBe('It stands at 0.31 %, past the stop line.');
  });
  it('says that nothing is wrong when nothing is', () =>
    expect(sentence(reading({value: 99.6, pulls: [pull({points: 0.4})]}), undefined).strong).toContain('Nothing'));
  it('does not judge what it cannot know', () => {
    expect(sentence(reading({value: null, pulls: []}), undefined).strong).toContain('Too little mail');
    expect(sentence(undefined, undefined).strong).toContain('No mail');
  });
});

describe('a measure', () => {
  it.each([
    [0.0031, 'rate', '0.31 %', '0.31 %'],
    [1.5, 'doublings', '2.8 × the usual', '2.8 ×'],
    [0.3, 'drop', '30 % fewer opened', '30 %'],
    [2.2, 'faults', '2.2 faults', '2.2'],
  ])('of %d %s is read as %s', (value, unit, said, line) => {
    expect(measured(value, unit)).toBe(said);
    expect(lineOf(value, unit)).toBe(line);
  });
  it('of days that are not known is left out of their mean', () => {
    expect(mean([80, null, 90])).toBe(85);
    expect(mean([null])).toBeNull();
  });
});

describe('how long a condition has lasted', () => {
  const days = (...conditions: (Schemas['Reading']['condition'])[]) =>
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
