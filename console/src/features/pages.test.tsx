// Pages over a service whose answers stand in a table: what is shown, asked for and said when something is wrong.
import {cleanup, screen, waitFor, within} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it} from 'vitest';
import type {Schemas} from '../api/client';
import {onePage, open, problem, requestTo, serviceWith, who, withBrowserParts} from '../testing';
import {DomainPage} from './domains/DomainPage';
import {DomainsPage} from './domains/DomainsPage';
import {FlowPage} from './mailflow/FlowPage';
import {SignIn} from './session/SignIn';
import {WallPage} from './wall/WallPage';

withBrowserParts();
afterEach(cleanup);

const DOMAIN = 'copperline.example';
const BASE = `/api/v1/tenants/copperline/domains/${DOMAIN}`;
const counts = (delivered: number): Schemas['Counts'] => ({
  accepted: delivered,
  delivered,
  delayed: 0,
  bounced_permanent: 0,
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
});
const flowRow = (provider: string, delivered: number, reports = true): Schemas['FlowRow'] => ({
  provider,
  label: provider,
  counts: counts(delivered),
  permanent: {value: 0.06, low: 0.055, high: 0.07, count: 60, total: 1000},
  transient: null,
  delayed: null,
  complaints: null,
  reports_complaints: reports,
  before: counts(delivered / 2),
});
const flow: Schemas['Flow'] = {
  tenant: 'copperline',
  domain: DOMAIN,
  first_day: '2026-11-14',
  last_day: '2026-11-20',
  total: flowRow('(all)', 300),
  providers: [flowRow('Tidepost', 100), flowRow('Orchard Mail', 200, false)],
  causes: [{cause: 'no_such_mailbox', permanent: 60, transient: 0}],
};
const finding: Schemas['Finding'] = {
  id: `spf-syntax:${DOMAIN}`,
  rule: 'spf-syntax',
  level: 'fault',
  title: 'The SPF record has a syntax error',
  place: {name: DOMAIN, rdtype: 'TXT', record: 0, column: 8, length: 4},
  evidence: ['-alx'],
  reason: 'One wrong term makes the whole record a permerror.',
  remedy: 'Correct it.',
  record: 'v=spf1 -all',
  reference: 'RFC 7208 §4.6',
  check: 'spf',
  scope: 'all',
  topic: '',
};
const plain = {aliases: [], source: '', strings: []};
const audit: Schemas['Audit'] = {
  id: 7,
  domain: DOMAIN,
  unicode_name: '',
  finished_at: new Date().toISOString(),
  faults: 1,
  risks: 0,
  notes: 0,
  spf_lookups: 3,
  records: [
    {purpose: 'spf', name: DOMAIN, rdtype: 'TXT', status: 'found', values: ['v=spf1 -alx'], ttl: 300, ...plain},
    {purpose: 'dmarc', name: `_dmarc.${DOMAIN}`, rdtype: 'TXT', status: 'no_name', values: [], ttl: null, ...plain},
  ],
  findings: [finding],
  questions: [],
  cause: 'asked',
  checks: [{key: 'spf', title: 'SPF', state: 'fault', summary: '3 of 10 lookups'}],
  keys: [],
  hosts: [],
  streams: [],
  lists: [],
  bulk: [],
};
const reading = (day: string, value: number | null): Schemas['Reading'] => ({
  day,
  factors: value == null ? {} : {refusals: 30},
  value,
  margin: value == null ? null : 4,
  condition: value == null ? null : 'corroded',
  mail: 500,
  provisional: false,
  pulls:
    value == null
      ? []
      : [
          {
            factor: 'refusals',
            provider: 'tidepost.example',
            label: 'Tidepost',
            points: 100 - value,
            unit: 'rate',
            measure: 0.1,
            kinds: ['bounced'],
            causes: ['reputation'],
            low: 0.08,
            high: 0.12,
            watch: 0.01,
            stop: 0.05,
            days: 7,
            elsewhere: false,
            measured: true,
          },
        ],
});
const series = (...readings: Schemas['Reading'][]): Schemas['ReadingSeries'] => ({
  tenant: 'copperline',
  subject: 'domain',
  name: DOMAIN,
  provider: '(all)',
  label: 'All',
  computed_at: null,
  readings,
});
const domainAnswers = {
  ['GET /api/v1/tenants/copperline/readings']: series(reading('2026-11-19', 50), reading('2026-11-20', 42)),
  [`GET ${BASE}/audits/newest`]: audit,
  'GET /api/v1/tenants/copperline/flow': flow,
};
const openDomain = (view = '') =>
  open(<DomainPage />, `/domains/copperline/${DOMAIN}${view && `?view=${view}`}`, '/domains/:tenant/:name');

describe('signing in', () => {
  it('sends what was typed and says why it was refused', async () => {
    const seen = serviceWith({'POST /api/v1/session': problem(401, 'Address and password do not match')});
    open(<SignIn />);
    await userEvent.type(screen.getByLabelText('Email address'), 'isla@skerry.example');
    await userEvent.type(screen.getByLabelText('Password'), 'wrong');
    await userEvent.click(screen.getByRole('button', {name: 'Sign in'}));
    expect((await screen.findByRole('alert')).textContent).toContain('Address and password do not match');
    expect((await requestTo(seen, 'POST /api/v1/session')).body).toEqual({
      email: 'isla@skerry.example',
      password: 'wrong',
      code: '',
    });
  });
});

describe('the wall', () => {
  const wall: Schemas['Wall'] = {
    day: '2026-11-20',
    days: 7,
    subject: 'domain',
    summary: {subjects: 1, delivered: 951, conditions: {sound: 1, tarnished: 0, corroded: 0, seized: 0}, unknown: 0},
    columns: [
      {provider: '(all)', label: 'All'},
      {provider: 'tidepost.example', label: 'Tidepost'},
    ],
    rows: [
      {
        tenant: 'copperline',
        tenant_name: 'Copperline Tram Museum',
        name: DOMAIN,
        delivered: 41_000,
        warmup: [],
        lacks: [{stream: 'newsletter', verified: false, aligned: null, text: 'not verified: publish its record'}],
        cells: [
          {provider: '(all)', value: 42, margin: 4, condition: 'corroded', trend: [50, 42]},
          {provider: 'tidepost.example', value: null, margin: null, condition: null, trend: [null, null]},
        ],
        heaviest: null,
        faults: 1,
        fault: '2 SPF records on copperline.example',
        remedy: 'Publish one merged record.',
        record: 'v=spf1 mx ~all',
      },
    ],
  };

  const item: Schemas['WorkItem'] = {
    id: 7,
    tenant: 'copperline',
    tenant_name: 'Copperline Tram Museum',
    kind: 'fault',
    subject: 'domain',
    name: DOMAIN,
    title: '2 SPF records on copperline.example',
    text: 'None of them counts.',
    level: 'fix',
    state: 'open',
    since: '2026-11-01T00:00:00Z',
    found_at: '2026-11-01T00:00:00Z',
    seen_at: '2026-11-20T00:00:00Z',
    notified_at: null,
    resolved_at: null,
    until: null,
    mail: 944,
    order: 'fix, 12 messages a week',
    remedy: 'Publish one merged record.',
    record: 'v=spf1 mx ~all',
    evidence: ['v=spf1 -all'],
    recheck: 'audit',
    assigned_to: '',
    returns: 1,
  };

  it('shows each crossing with its words and what to do next', async () => {
    serviceWith({'GET /api/v1/wall': wall, 'GET /api/v1/worklist': onePage([item])});
    open(<WallPage />);
    expect(await screen.findByRole('link', {name: `${DOMAIN}, All: 42, corroded`})).toBeTruthy();
    expect(screen.getByRole('link', {name: `${DOMAIN}, Tidepost: too little mail for a reading`})).toBeTruthy();
    expect(screen.getByText('1 item needs attention today.')).toBeTruthy();
    const work = within(screen.getByRole('complementary', {name: 'Worklist'}));
    expect(work.getByText('v=spf1 mx ~all')).toBeTruthy();
    expect(work.getByRole('button', {name: 'Copy record'})).toBeTruthy();
  });

  it('asks for the period and the tenant of its address', async () => {
    const seen = serviceWith({'GET /api/v1/wall': {...wall, rows: []}, 'GET /api/v1/worklist': onePage([])});
    open(<WallPage />, '/?days=30&tenant=copperline');
    expect(await screen.findByText('No domains yet')).toBeTruthy();
    expect(Object.fromEntries((await requestTo(seen, 'GET /api/v1/wall')).query)).toEqual({
      days: '30',
      subject: 'domain',
      tenant: 'copperline',
    });
  });

  it('falls back to a week when the address asks for nonsense', async () => {
    const seen = serviceWith({'GET /api/v1/wall': {...wall, rows: []}, 'GET /api/v1/worklist': onePage([])});
    open(<WallPage />, '/?days=1e9');
    await screen.findByText('No domains yet');
    expect((await requestTo(seen, 'GET /api/v1/wall')).query.get('days')).toBe('7');
  });

  it('says what is wrong and tries again when asked to', async () => {
    let tries = 0;
    serviceWith({
      'GET /api/v1/wall': () =>
        ++tries === 1 ? problem(503, 'Database unavailable', {remedy: 'Try again later'}) : wall,
    });
    open(<WallPage />);
    expect((await screen.findByRole('alert')).textContent).toContain('Try again later');
    await userEvent.click(screen.getByRole('button', {name: 'Try again'}));
    expect(await screen.findByText('Copperline Tram Museum')).toBeTruthy();
  });
});

describe('a domain', () => {
  it('says what matters first, marks the wrong characters and shows the record', async () => {
    serviceWith(domainAnswers);
    openDomain('records');
    expect(await screen.findByText('Refusals at Tidepost took 58 of the 58.0 missing points.')).toBeTruthy();
    const records = within(await screen.findByRole('region', {name: 'Records'}));
    expect(records.getByText('-alx').tagName).toBe('MARK');
    expect(records.getByText('v=spf1 -all')).toBeTruthy();
    expect(records.getByText('Not published: the name does not exist.')).toBeTruthy();
    expect(within(screen.getByRole('region', {name: 'Findings'})).getByText(finding.title)).toBeTruthy();
  });

  it('says of a record without an answer that it was not measured, not that it is absent', async () => {
    const records = audit.records.map((each) => ({...each, status: 'timeout', values: []}));
    serviceWith({...domainAnswers, [`GET ${BASE}/audits/newest`]: {...audit, findings: [], faults: 0, records}});
    openDomain('records');
    const shown = within(await screen.findByRole('region', {name: 'Records'}));
    expect(shown.getAllByText('Not measured: no usable answer (timeout).')).toHaveLength(records.length);
    expect(shown.queryByText(/Not published/)).toBeNull();
  });

  it('audits again and shows what changed', async () => {
    const clean = {...audit, findings: [], faults: 0};
    const seen = serviceWith({...domainAnswers, [`POST ${BASE}/audits`]: clean});
    openDomain('records');
    await userEvent.click(await screen.findByRole('button', {name: 'Re-check'}));
    await waitFor(() => expect(screen.queryByText(finding.title)).toBeNull());
    expect(seen.filter((sent) => sent.method === 'POST')).toHaveLength(1);
  });

  it('offers the first audit where there was none', async () => {
    serviceWith({...domainAnswers, [`GET ${BASE}/audits/newest`]: problem(404, 'Not found')});
    openDomain();
    expect(await screen.findByRole('button', {name: 'Run audit'})).toBeTruthy();
  });

  it('has a table for its chart, newest day first', async () => {
    serviceWith(domainAnswers);
    openDomain();
    const card = within(await screen.findByRole('region', {name: 'Reading'}));
    await userEvent.click(card.getByRole('button', {name: 'Show table'}));
    const rows = within(screen.getByRole('table', {name: 'Readings by day'})).getAllByRole('row');
    expect(rows[1]!.textContent).toContain('2026-11-20');
    expect(rows[1]!.textContent).toContain('58 refusals, Tidepost');
  });

  it('does not pretend to know when there is too little mail', async () => {
    const nothingWrong = {...audit, findings: [], faults: 0};
    serviceWith({
      ...domainAnswers,
      ['GET /api/v1/tenants/copperline/readings']: series(reading('2026-11-20', null)),
      [`GET ${BASE}/audits/newest`]: nothingWrong,
    });
    openDomain();
    expect(await screen.findByText('Too little mail for a reading.')).toBeTruthy();
    expect(screen.queryByRole('region', {name: 'Factors'})).toBeNull();
  });
});

describe('domains', () => {
  it('adds one with its selectors and shows why another is refused', async () => {
    let answer: unknown = problem(422, 'Not a domain name', {detail: 'it has only one label'});
    const seen = serviceWith({
      'GET /api/v1/tenants/copperline/domains': {items: [], next: null},
      'GET /api/v1/tenants/copperline/senders': onePage([]),
      'GET /api/v1/tenants/copperline/jobs': onePage([]),
      'GET /api/v1/tenants/copperline/audit-settings': {lists: [], usual_selectors: [], bulk_rules: []},
      'POST /api/v1/tenants/copperline/domains': () => answer,
    });
    open(<DomainsPage who={who} />);
    await userEvent.type(await screen.findByLabelText('Sending domain'), 'nodot');
    await userEvent.click(screen.getByRole('button', {name: 'Add domain'}));
    expect((await screen.findByRole('alert')).textContent).toContain('it has only one label');
    answer = {name: 'd.example', tenant: 'copperline', origin: 'added', selectors: [], added_at: '', last_audit: null};
    await userEvent.type(screen.getByLabelText('DKIM selectors'), 'd1, d2');
    await userEvent.click(screen.getByRole('button', {name: 'Add domain'}));
    await waitFor(() => expect(seen.filter((sent) => sent.method === 'POST')).toHaveLength(2));
    expect(seen.filter((sent) => sent.method === 'POST')[1]!.body).toEqual({name: 'nodot', selectors: ['d1', 'd2']});
  });
});

describe('senders', () => {
  it('stand with proof, alignment and the limit that is used most', async () => {
    const use = {per: 'day', limit: 172, used: 150, remaining: 22, reached_at: null, free_at: null};
    serviceWith({
      'GET /api/v1/tenants/copperline/domains': onePage([]),
      'GET /api/v1/tenants/copperline/jobs': onePage([]),
      'GET /api/v1/tenants/copperline/senders': onePage([
        {
          domain: 'a.example',
          stream: 'visitors',
          relays: ['cobble'],
          verified: true,
          aligned: false,
          summary: 'no SPF',
        },
        {domain: 'b.example', stream: 'members', relays: [], verified: false, aligned: null, summary: 'not verified'},
      ]),
      'GET /api/v1/tenants/copperline/relays/cobble/usage': {
        relay: 'cobble',
        days: 30,
        hits: [],
        unproven: [],
        limits: [
          {region: 'west', streams: [], uses: [{...use, per: 'hour', limit: 900}, use]},
          {region: '', streams: ['another stream'], uses: [{...use, used: 172}]},
        ],
      },
    });
    open(<DomainsPage who={who} />);
    const table = await screen.findByRole('table', {name: 'Senders'});
    expect(await within(table).findByText('cobble: 150 of 172 a day in west')).toBeTruthy();
    expect(within(table).getByText('not aligned')).toBeTruthy();
    expect(within(table).getByText('not known')).toBeTruthy();
  });
});

describe('mail flow', () => {
  it('sorts by a column, and the other way round', async () => {
    serviceWith({
      'GET /api/v1/tenants/copperline/flow': flow,
      'GET /api/v1/tenants/copperline/domains': {items: [], next: null},
    });
    open(<FlowPage who={who} />);
    const table = await screen.findByRole('table', {name: 'Mail flow by mailbox provider'});
    const names = () =>
      within(table)
        .getAllByRole('row')
        .slice(1)
        .map((row) => within(row).getAllByRole('cell')[0]!.textContent);
    expect(names()).toEqual(['Tidepost', 'Orchard Mail', '(all)']);
    await userEvent.click(within(table).getByRole('button', {name: 'Delivered'}));
    expect(names()).toEqual(['Orchard Mail', 'Tidepost', '(all)']);
    await userEvent.click(within(table).getByRole('button', {name: 'Delivered ↓'}));
    expect(names()).toEqual(['Tidepost', 'Orchard Mail', '(all)']);
    expect(within(table).getByText('no reports')).toBeTruthy();
  });
});
