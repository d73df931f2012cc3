import {cleanup, screen} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it} from 'vitest';
import {toNdjson} from '../../design/csv';
import {onePage, open, serviceWith, who, withBrowserParts} from '../../testing';
import {daysOf, ratesOf} from './FlowChart';
import {FlowPage} from './FlowPage';
import {ruleFrom, wordsOf} from './RulesCard';
import {rarity} from './ShiftsCard';
import {searchOf, sinceChoice} from './TrailsView';

withBrowserParts();
afterEach(cleanup);

const T = '/api/v1/tenants/copperline';
const rate = {value: 0.2, low: 0.15, high: 0.26, count: 40, total: 200};
const shift = {
  id: 7,
  what: 'relay',
  name: 'office-1',
  label: 'office-1',
  rate: 'permanent',
  began_at: '2026-11-20T10:00:00Z',
  found_at: '2026-11-20T10:12:00Z',
  ended_at: null,
  usual: 0.01,
  seen: rate,
  chance_years: 5e7,
  summary: 'More permanent bounces through office-1 since 20 Nov 10:00 UTC: 20 %, usually 1 %',
};
const counts = {
  accepted: 0,
  delivered: 180,
  delayed: 0,
  bounced_permanent: 40,
  bounced_transient: 0,
  complained: 0,
  unsubscribed: 0,
  opened: 0,
  clicked: 0,
  withheld: 0,
  delayed_again: 0,
  bounced_again: 0,
  complained_again: 0,
  unsubscribed_again: 0,
  returned: 0,
};
const flowRow = {
  provider: 'tidepost.example',
  label: 'Tidepost',
  counts,
  permanent: rate,
  transient: null,
  delayed: null,
  complaints: null,
  reports_complaints: false,
  unsubscribed: null,
  seconds_p50: null,
  seconds_p95: null,
  before: counts,
};
const series = {
  provider: 'tidepost.example',
  label: 'Tidepost',
  reports_complaints: false,
  delivered: [90, 90],
  attempted: [100, 0],
  permanent: [10, 0],
  transient: [0, 0],
  delayed: [0, 0],
  complained: [0, 0],
  unsubscribed: [1, 0],
};
const rules = (changes = {}) => ({
  version: 3,
  changed_at: null,
  changed_by: '',
  rules: [],
  application: null,
  ...changes,
});
const base = {
  [`GET ${T}/domains`]: () => ({items: [], next: null}),
  [`GET ${T}/flow/names`]: () => ({streams: [], relays: [], ips: [], campaigns: [], tags: []}),
  [`GET ${T}/flow`]: () => ({
    tenant: 'copperline',
    domain: null,
    first_day: '2026-11-19',
    last_day: '2026-11-20',
    total: flowRow,
    providers: [flowRow],
    causes: [],
  }),
  [`GET ${T}/flow/days`]: () => ({first_day: '2026-11-19', last_day: '2026-11-20', series: [series]}),
  [`GET ${T}/shifts`]: () => onePage([shift]),
  [`GET ${T}/flow/causes`]: () => ({first_day: '2026-11-19', last_day: '2026-11-20', rows: []}),
  [`GET ${T}/reply-patterns`]: () =>
    onePage([
      {
        id: 1,
        pattern: '550 harbour is closed today, #',
        example: '550 harbour is closed today, 17',
        cause: 'unclassified',
        count: 9,
        providers: ['Tidepost'],
        first_seen_at: '2026-11-20T08:00:00Z',
      },
    ]),
  [`GET ${T}/cause-rules`]: () => rules(),
  [`GET ${T}/providers`]: () => onePage([{provider: 'tidepost.example', label: 'Tidepost', named: true}]),
};

describe('shifts', () => {
  it('stand first, with what is behind them one click away', async () => {
    const seen = serviceWith({
      ...base,
      [`GET ${T}/shifts/7`]: () => ({
        shift,
        parts: [{what: 'domain', name: 'd.example', count: 40, total: 200}],
        causes: [{cause: 'blocklisted', transient: 0, permanent: 40}],
        events: {kind: ['bounced'], relay: 'office-1', since: '2026-11-20T10:00:00Z'},
        examples: [
          {time: '2026-11-20T10:02:00Z', recipient: 'kim@tidepost.example', diagnostic: '550 192.0.2.1 is listed'},
        ],
      }),
    });
    open(<FlowPage who={who} />);
    expect(await screen.findByText('Ongoing rate shifts')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'Open'}));
    expect(await screen.findByText(/550 192.0.2.1 is listed/)).toBeTruthy();
    expect(screen.getByText(/less than once in a million years/)).toBeTruthy();
    expect(screen.getByText('blocklisted')).toBeTruthy();
    const link = new URL(screen.getByRole('link', {name: 'All events'}).getAttribute('href')!, 'http://x');
    expect(Object.fromEntries(link.searchParams)).toEqual({
      tenant: 'copperline',
      view: 'trails',
      kind: 'bounced',
      relay: 'office-1',
      since: '2026-11-20T10:00:00Z',
    });
    expect(seen.some((each) => each.path.endsWith('/shifts/7'))).toBe(true);
  });

  it('are rare by chance, in words', () => {
    expect([rarity(3e7), rarity(12.4), rarity(0.8)]).toEqual([
      'less than once in a million years',
      'once in 12 years',
      'about once a year',
    ]);
  });
});

describe('day by day', () => {
  it('divides by what the rate is of, and has gaps on days without mail', () => {
    expect(ratesOf(series as never, 'permanent')).toEqual([0.1, null]);
    expect(ratesOf(series as never, 'unsubscribed')).toEqual([1 / 90, 0]);
    expect(ratesOf(series as never, 'delivered')).toEqual([90, 90]);
    const hardlyBegun = {attempted: [100, 120, 1], permanent: [1, 0, 1]};
    expect(ratesOf(hardlyBegun as never, 'permanent')).toEqual([0.01, 0, null]);
    const small = {attempted: [4, 3, 1], permanent: [1, 0, 1]};
    expect(ratesOf(small as never, 'permanent')).toEqual([0.25, 0, 1]);
    expect(daysOf('2026-02-28', 2)).toEqual(['2026-02-28', '2026-03-01']);
  });

  it('can be had as a table', async () => {
    serviceWith(base);
    open(<FlowPage who={who} />);
    await userEvent.click(await screen.findByRole('button', {name: 'Show table'}));
    expect(screen.getByRole('table', {name: 'Mail by day'})).toBeTruthy();
  });
});

describe('rules of one’s own', () => {
  it('begin with the plain words of a reply_pattern', () => {
    expect(wordsOf('550 5.1.1 <@>: Harbour is closed, see ~')).toBe('harbour is closed');
    expect(wordsOf('550 #')).toBe('');
    expect(ruleFrom('550 harbour is closed today, #', 'x 1')).toMatchObject({
      name: 'harbour-is-closed-today',
      words: ['harbour is closed today'],
      fits: ['x 1'],
    });
  });

  it('are tried on the past before they are kept', async () => {
    const seen = serviceWith({
      ...base,
      [`POST ${T}/cause-rules/backtests`]: () => ({
        first_day: '2026-08-23',
        last_day: '2026-11-20',
        patterns: 3,
        judged: 12,
        changed: 9,
        frees: 2,
        holds: 0,
        decided: {a: 9},
        problems: [],
        rows: [
          {
            pattern: '550 harbour is closed today, #',
            example: 'x',
            count: 9,
            providers: ['Tidepost'],
            cause: 'unclassified',
            permanence: 'permanent',
            new_cause: 'policy',
            new_permanence: 'permanent',
            new_rule: 'own:a',
          },
        ],
      }),
      [`PUT ${T}/cause-rules`]: () =>
        rules({
          version: 4,
          application: {
            state: 'running',
            days_done: 3,
            days: 90,
            judged: 5,
            changed: 4,
            entries_made: 0,
            entries_lifted: 0,
            error: '',
            asked_at: '2026-11-20T08:00:00Z',
            finished_at: null,
          },
        }),
    });
    open(<FlowPage who={who} />, '/?view=causes');
    await userEvent.click(await screen.findByRole('button', {name: 'Create rule'}));
    expect(screen.queryByRole('button', {name: /Save/})).toBeNull();
    await userEvent.click(screen.getByRole('button', {name: 'Run backtest'}));
    expect(await screen.findByText(/would be classified differently/)).toBeTruthy();
    expect(screen.getByText(/2 bounces would no longer count against their addresses/)).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'Save and re-classify'}));
    const put = seen.find((each) => each.method === 'PUT')!.body as {version: number; rules: {words: string[]}[]};
    expect(put).toMatchObject({version: 3, apply: true});
    expect(put.rules[0]!.words).toEqual(['harbour is closed today']);
  });

  it('show how far the past is judged', async () => {
    serviceWith({
      ...base,
      [`GET ${T}/cause-rules`]: () =>
        rules({
          application: {
            state: 'cancelled',
            days_done: 3,
            days: 90,
            judged: 5,
            changed: 4,
            entries_made: 0,
            entries_lifted: 1,
            error: '',
            asked_at: '2026-11-20T08:00:00Z',
            finished_at: '2026-11-20T08:01:00Z',
          },
        }),
    });
    open(<FlowPage who={who} />, '/?view=causes');
    expect(await screen.findByText(/Cancelled after 3 of 90 days/)).toBeTruthy();
    expect(screen.getByRole('button', {name: 'Resume'})).toBeTruthy();
  });
});

describe('search', () => {
  it('takes its filters from the address', async () => {
    const seen = serviceWith({...base, [`GET ${T}/events`]: () => ({items: [], next: null})});
    open(
      <FlowPage who={who} />,
      '/?view=trails&kind=bounced,delayed&cause=blocklisted&relay=office-1&since=2026-11-20T10:00:00Z',
    );
    expect(await screen.findByText(/Filtered by/)).toBeTruthy();
    const query = seen.find((each) => each.path.endsWith('/events'))!.query;
    expect(query.getAll('kind')).toEqual(['bounced', 'delayed']);
    expect([query.get('cause'), query.get('relay'), query.get('since')]).toEqual([
      'blocklisted',
      'office-1',
      '2026-11-20T10:00:00Z',
    ]);
    await userEvent.click(screen.getByRole('button', {name: 'Clear filter'}));
    expect(screen.queryByText(/Filtered by/)).toBeNull();
  });

  it('knows the moments that it offers', () => {
    const now = Date.parse('2026-11-20T12:00:00Z');
    expect([
      sinceChoice('', now),
      sinceChoice('2026-11-19T12:00:00Z', now),
      sinceChoice('2026-11-18T12:00:00Z', now),
    ]).toEqual(['weeks', '24', 'moment']);
    expect(searchOf('x@')).toEqual({reply: 'x@'});
  });
});

describe('export', () => {
  it('writes a row as an object, numbers as numbers', () => {
    expect(
      toNdjson(
        ['a', 'b'],
        [
          [1, 'x'],
          [null, '=y'],
        ],
      ),
    ).toBe('{"a":1,"b":"x"}\n{"a":null,"b":"=y"}\n');
  });
});
