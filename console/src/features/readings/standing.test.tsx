import {cleanup, screen, within} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it, vi} from 'vitest';
import type {Schemas} from '../../api/client';
import {onePage, open, problem, requestTo, serviceWith, withBrowserParts} from '../../testing';
import {WallPage} from '../wall/WallPage';
import {AheadCard, RoomCard} from './AheadCard';
import {MovedCard} from './MovedCard';
import {NotesCard} from './NotesCard';
import {PullsCard} from './PullsCard';
import {ReadingCard} from './ReadingCard';
import {labelRows} from '../../design/happened';

withBrowserParts();
afterEach(cleanup);
const T = '/api/v1/tenants/copperline';
const of = {subject: 'domain' as const, name: 'copperline.example', provider: ''};
const pull: Schemas['Pull'] = {
  factor: 'authentication',
  provider: 'tidepost.example',
  label: 'Tidepost',
  points: 19.5,
  unit: 'rate',
  measure: 0.135,
  low: 0.1,
  high: 0.2,
  watch: 0.005,
  stop: 0.05,
  days: 7,
  elsewhere: false,
  measured: true,
  kinds: ['bounced'],
  causes: ['authentication'],
};
const reading = (day: string, value: number | null, pulls: Schemas['Pull'][] = []): Schemas['Reading'] => ({
  day,
  factors: Object.fromEntries(pulls.map((each) => [each.factor, each.points])),
  value,
  margin: value == null ? null : 2,
  condition: value == null ? null : 'sound',
  mail: 900,
  provisional: false,
  pulls,
});

describe('headroom', () => {
  const row: Schemas['Headroom'] = {
    factor: 'complaints',
    provider: 'tidepost.example',
    label: 'Tidepost',
    measure: 0.0004,
    watch: 0.001,
    stop: 0.003,
    to_watch: 3,
    to_stop: 1200,
    watch_on: '2026-11-30',
    stop_on: null,
  };
  it.each([
    [{}, '3 more, 30 Nov at this pace'],
    [{to_watch: 0}, 'crossed'],
    [{to_watch: null}, 'out of scope'],
    [{watch_on: null}, '3 more'],
  ])('is said in words', async (more, said) => {
    serviceWith({[`GET ${T}/readings/headroom`]: () => onePage([{...row, ...more}])});
    open(<RoomCard tenant="copperline" of={of} />);
    expect(await screen.findByText(said)).toBeTruthy();
    expect(screen.getByText('1,200 more')).toBeTruthy();
  });
});

describe('what if', () => {
  const days = [{day: '2026-11-21', unchanged: 40, with_change: 44.5, margin: 3}];
  it('asks with what is changed and says when it is sound again', async () => {
    const seen = serviceWith({[`POST ${T}/readings/forecast`]: () => ({days, sound_again: '2026-12-04'})});
    open(
      <AheadCard
        tenant="copperline"
        of={of}
        pulls={[pull, {...pull, factor: 'volume', unit: 'doublings'}, {...pull, factor: 'delays', points: 0.1}]}
      />,
    );
    expect(await screen.findByText('4 Dec')).toBeTruthy();
    expect(screen.queryByText(/Delays/)).toBeNull();
    await userEvent.click(screen.getByRole('button', {name: /Authentication remaining/}));
    await userEvent.click(await screen.findByRole('option', {name: 'gone'}));
    await userEvent.click(screen.getByRole('button', {name: /Volume/}));
    await userEvent.click(await screen.findByRole('option', {name: 'half the volume'}));
    expect(seen.at(-1)!.body).toEqual({volume: 0.5, remains: {authentication: 0}, days: 28});
    await userEvent.click(screen.getByRole('button', {name: 'Show table'}));
    expect(within(await screen.findByRole('table', {name: 'Forecast by day'})).getByText('44.5')).toBeTruthy();
  });

  it('says so where nothing can be fixed', async () => {
    serviceWith({[`POST ${T}/readings/forecast`]: () => ({days: [], sound_again: null})});
    open(<AheadCard tenant="copperline" of={of} pulls={[]} />);
    expect(await screen.findByText('No factor to change.')).toBeTruthy();
  });

  it('has one column where nothing is changed', async () => {
    const plain = [{day: '2026-11-21', unchanged: 40, with_change: null, margin: 3}];
    serviceWith({[`POST ${T}/readings/forecast`]: () => ({changed: false, days: plain, sound_again: null})});
    open(<AheadCard tenant="copperline" of={of} pulls={[pull]} />);
    await userEvent.click(await screen.findByRole('button', {name: 'Show table'}));
    const table = within(await screen.findByRole('table', {name: 'Forecast by day'}));
    expect(table.getAllByRole('columnheader').map((head) => head.textContent)).toEqual(['Day', 'Reading', 'Margin']);
  });
});

describe('the period before', () => {
  it('is drawn and listed beside the readings, day for day', async () => {
    const card = (before?: {days: number; readings: Schemas['Reading'][]}) => (
      <ReadingCard
        readings={[reading('2026-11-21', 40), reading('2026-11-22', 45)]}
        provider="(all)"
        providers={[{value: '(all)', label: 'All providers'}]}
        onProvider={() => {}}
        file="readings.csv"
        before={before}
      />
    );
    open(card({days: 7, readings: [reading('2026-11-14', 80), reading('2026-11-15', null)]}));
    const chart = screen.getByRole('slider', {name: /^Readings from/});
    expect(chart.getAttribute('aria-valuetext')).toBe('22 Nov: 45 ± 2, sound; before: no reading');
    chart.focus();
    await userEvent.keyboard('{ArrowLeft}');
    expect(chart.getAttribute('aria-valuetext')).toBe('21 Nov: 40 ± 2, sound; before: 80');
    await userEvent.click(screen.getByRole('button', {name: 'Show table'}));
    const heads = screen.getAllByRole('columnheader').map((head) => head.textContent);
    expect(heads).toContain('Period before');
    cleanup();
    open(card());
    expect(screen.getByRole('slider', {name: /^Readings from/}).getAttribute('aria-valuetext')).not.toContain('before');
  });
});

describe('the changes', () => {
  const moved: Schemas['Explanation'] = {
    subject: 'domain',
    name: 'copperline.example',
    first: reading('2026-11-09', 99.8),
    last: reading('2026-11-12', 48.5, [pull]),
    factors: [
      {
        factor: 'authentication',
        before: 0,
        after: 19.5,
        change: 19.5,
        providers: 1,
        days: 7,
        count_before: 0,
        total_before: 1500,
        count_after: 205,
        total_after: 1519,
      },
      {factor: 'refusals', before: 9, after: 4.5, change: -4.5, providers: 9, days: 7},
    ],
    moves: [
      {
        factor: 'authentication',
        provider: 'tidepost.example',
        label: 'Tidepost',
        before: 0,
        after: 19.5,
        change: 19.5,
        unit: 'rate',
        measure_before: 0,
        measure_after: 0.135,
      },
      ...Array.from({length: 9}, (_, n) => ({
        factor: 'refusals' as const,
        provider: `p${n}.example`,
        label: `P${n}`,
        before: 1,
        after: 0.5,
        change: -0.5,
        unit: 'rate' as const,
        measure_before: null,
        measure_after: null,
      })),
    ],
    streams: [{factor: 'authentication', stream: '', before: 0, after: 29.3}],
    annotations: [
      {
        day: '2026-11-11',
        kind: 'record',
        text: 'v1._domainkey TXT changed',
        domain: '',
        provider: '',
        id: null,
        by: '',
      },
    ],
  };
  const card = (onDays = vi.fn()) => (
    <MovedCard tenant="copperline" of={of} first="2026-11-09" last="2026-11-12" onDays={onDays} />
  );

  it('says the largest first, from which stream, beside what else happened, and leads to the events', async () => {
    serviceWith({[`GET ${T}/readings/explanation`]: () => moved});
    open(card());
    expect((await screen.findByText('99.8 → 48.5')).parentElement!.textContent).toContain(
      '99.8 → 48.5 mostly authentication at Tidepost (-19.5 points)',
    );
    expect(screen.getByText('−19.5')).toBeTruthy();
    expect(screen.getByText(/29\.3 a day/).textContent).toContain('no stream');
    expect(screen.getByText(/_domainkey TXT changed/)).toBeTruthy();
    expect(screen.getByRole('link', {name: 'Authentication'}).getAttribute('href')).toContain(
      'kind=bounced&cause=authentication&provider=tidepost.example',
    );
    expect(screen.getByText('205 of 1,519')).toBeTruthy();
    expect(screen.getByText('+4.5')).toBeTruthy();
    expect(screen.getByText('9 providers')).toBeTruthy();
    expect(screen.queryByText('P8')).toBeNull();
    await userEvent.click(screen.getByRole('button', {name: 'By provider (10)'}));
    expect(screen.getByText('P8')).toBeTruthy();
  });

  it('says that nothing did', async () => {
    serviceWith({
      [`GET ${T}/readings/explanation`]: () => ({
        ...moved,
        last: reading('2026-11-12', 99.9),
        factors: [],
        moves: [],
        streams: [],
        annotations: [],
      }),
    });
    open(card());
    expect(await screen.findByText('No changes')).toBeTruthy();
    expect(screen.getByText(/hardly changed/)).toBeTruthy();
  });

  it('says why two days cannot be compared', async () => {
    serviceWith({
      [`GET ${T}/readings/explanation`]: () =>
        problem(404, 'Not found', {detail: 'There are no readings of copperline.example on both days'}),
    });
    open(card());
    expect(await screen.findByText(/no readings of copperline\.example on both days/)).toBeTruthy();
  });
});

describe('the factors', () => {
  it('are one line each, whatever the number of providers, and open down to them', async () => {
    const at = (n: number): Schemas['Pull'] => ({
      ...pull,
      provider: `p${n}.example`,
      label: `P${n}`,
      points: 1,
      count: n,
      total: 100,
    });
    const many = Array.from({length: 20}, (_, n) => at(n));
    const silent = {...pull, factor: 'complaints' as const, points: 3, count: 2, total: 900, elsewhere: true};
    open(<PullsCard reading={reading('2026-11-12', 77, [silent, ...many])} tenant="copperline" of={of} />);
    expect(screen.getByText('100 − 23.0 = 77; rates are estimates: recent mail counts more')).toBeTruthy();
    const bold = screen.getAllByText(/^\d+\.\d$/).map((each) => each.textContent);
    expect(bold).toEqual(['20.0', '3.0']);
    expect(screen.getByText('20 providers')).toBeTruthy();
    expect(screen.getByRole('link', {name: '1.0 P19', hidden: true}).getAttribute('href')).toContain(
      'provider=p19.example',
    );
    expect(screen.getByText(/2 of 900 in 7 days at the other providers, as this one reports none/)).toBeTruthy();
  });
});

describe('notes', () => {
  const annotation: Schemas['Annotation'] = {
    day: '2026-11-11',
    kind: 'annotation',
    text: 'the spring list',
    domain: '',
    provider: '',
    id: 8,
    by: 'isla@skerry.example',
  };
  it('are added and taken away; what was found stays', async () => {
    const seen = serviceWith({
      [`POST ${T}/annotations`]: () => annotation,
      [`DELETE ${T}/annotations/8`]: () => new Response(null, {status: 204}),
    });
    open(
      <NotesCard
        tenant="copperline"
        domain="copperline.example"
        annotations={[
          annotation,
          {...annotation, kind: 'policy', text: 'the suppression policy was changed', id: null},
        ]}
      />,
    );
    expect(screen.getAllByRole('button', {name: /Delete the annotation/})).toHaveLength(1);
    await userEvent.click(screen.getByRole('button', {name: 'Delete the annotation of 11 Nov'}));
    await userEvent.click(within(screen.getByRole('alertdialog')).getByRole('button', {name: 'Delete'}));
    const add = screen.getByRole('button', {name: 'Add'});
    expect(add).toHaveProperty('disabled', true);
    await userEvent.type(screen.getByRole('textbox', {name: 'Note'}), 'a new key');
    await userEvent.click(add);
    const sent = await requestTo(seen, `POST ${T}/annotations`);
    expect(seen.map((each) => each.method)).toEqual(['DELETE', 'POST']);
    expect(sent.body).toMatchObject({text: 'a new key', domain: 'copperline.example'});
  });
});

const cell = (provider: string, trend: (number | null)[]): Schemas['WallCell'] => ({
  provider,
  value: trend.at(-1) ?? null,
  margin: 2,
  condition: trend.at(-1) == null ? null : 'sound',
  trend,
});
const wall = (days: number, trend: (number | null)[]): Schemas['Wall'] => ({
  day: '2026-11-20',
  days,
  subject: 'domain',
  summary: {subjects: 1, delivered: 951, conditions: {sound: 1, tarnished: 0, corroded: 0, seized: 0}, unknown: 0},
  columns: [{provider: '(all)', label: 'All', outage: null}],
  rows: [
    {
      tenant: 'copperline',
      tenant_name: 'Copperline Tram Museum',
      name: 'copperline.example',
      delivered: 951,
      cells: [cell('(all)', trend)],
      heaviest: pull,
      lacks: [],
      faults: 1,
      fault: null,
      remedy: null,
      record: null,
      warmup: [],
    },
  ],
});

describe('the wall of an earlier day', () => {
  it('asks for that day and says what was wrong then', async () => {
    const seen = serviceWith({'GET /api/v1/wall': () => wall(7, [99, 48]), 'GET /api/v1/worklist': () => onePage([])});
    open(<WallPage />, '/?on=2026-11-12');
    expect(await screen.findByText('On 12 Nov')).toBeTruthy();
    expect(screen.getByText('No problems that day.')).toBeTruthy();
    expect(seen.map((each) => each.query.get('last') ?? each.query.get('on'))).toEqual(['2026-11-12', '2026-11-12']);
  });

  it('goes on without a day that has not come', async () => {
    const seen = serviceWith({'GET /api/v1/wall': () => wall(7, [99]), 'GET /api/v1/worklist': () => onePage([])});
    open(<WallPage />, '/?on=2199-01-01');
    expect(await screen.findByText('worst level first, then by affected mail')).toBeTruthy();
    expect((await requestTo(seen, 'GET /api/v1/wall')).query.get('last')).toBeNull();
  });
});

describe('labels on the time axis', () => {
  it.each([
    [
      [
        [480, 'n'],
        [524, 'so'],
        [530, 's'],
        [550, 'fs'],
      ],
      [0, 0, 1, 0],
    ],
    [
      [
        [10, 'n'],
        [16, 'n'],
        [22, 'n'],
      ],
      [0, 1, 0],
    ],
    [
      [
        [22, 'n'],
        [10, 'nsof'],
      ],
      [1, 0],
    ],
    [[], []],
  ] as [[number, string][], number[]][])('take rows of their own where they would meet', (labels, rows) => {
    expect(labelRows(labels)).toEqual(rows);
  });
});
