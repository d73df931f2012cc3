// Reports of receivers: who sends as a domain, decisions, the rehearsal, the path, and stored reports.
import {cleanup, screen, waitFor, within} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it} from 'vitest';
import type {Schemas} from '../../api/client';
import {onePage, open, problem, requestTo, serviceWith, who, withBrowserParts} from '../../testing';
import {ReportsPage} from './ReportsPage';
import {SourcesView} from './SourcesView';
import {aligned, share} from './verdicts';

withBrowserParts();
afterEach(cleanup);

const TENANT = '/api/v1/tenants/copperline';
const DOMAIN = `${TENANT}/domains/copperline.example`;
const mail = (messages: number, neither = 0, more: Partial<Schemas['SourceMail']> = {}): Schemas['SourceMail'] => ({
  messages,
  both: messages - neither,
  spf_only: 0,
  dkim_only: 0,
  neither,
  quarantined: 0,
  rejected: 0,
  overridden: 0,
  ...more,
});
const source = (more: Partial<Schemas['Source']>): Schemas['Source'] => ({
  domain: 'copperline.example',
  name: 'cobble',
  verdict: 'ours',
  certainty: 0.97,
  decided_by: '',
  relay: '',
  evidence: [{kind: 'relay_address', verdict: 'ours', weight: 0.97, text: '203.0.113.17 is an address of cobble'}],
  mail: mail(900),
  addresses: 2,
  first_day: '2026-11-01',
  last_day: '2026-11-30',
  ...more,
});
const crm = source({
  name: 'crm.example',
  verdict: 'unknown',
  certainty: 1,
  evidence: [{kind: 'other_identity', verdict: 'unknown', weight: 0.5, text: 'it authenticates as crm.example'}],
  mail: mail(40, 40),
});
const nothing = mail(0);
const overview: Schemas['SourceOverview'] = {
  domain: 'copperline.example',
  first: '2026-11-29',
  last: '2026-11-30',
  reports: 4,
  receivers: 2,
  by_verdict: [],
  sources: [source({}), source({name: 'old-web.copperline.example', mail: mail(60, 60)}), crm],
  days: ['2026-11-29', '2026-11-30'].map((day) => ({
    day,
    ours: mail(480, 30),
    unknown: mail(20, 20),
    forwarded: nothing,
    not_ours: nothing,
  })),
  unknown_names: [
    {name: 'shop.copperline.example', first_day: '2026-11-29', last_day: '2026-11-30', messages: 7, passed: 0},
  ],
  by_receiver: [
    {receiver: 'tidepost.example', label: 'Tidepost', reported: 960, not_aligned: 60, sent: 500, unexplained: true},
  ],
  not_judged: 3,
};
const path: Schemas['PolicyPath'] = {
  domain: 'copperline.example',
  running: true,
  settings: {aligned_share: 0.98, quiet_days: 14, unknown_a_day: 10, stage_days: 14},
  stage: 'watch',
  stage_since: '2026-11-01',
  published: 'v=DMARC1; p=none',
  checked_at: null,
  stages: [
    {stage: 'watch', state: 'current', record: 'v=DMARC1; p=none'},
    {stage: 'trial', state: 'next', record: 'v=DMARC1; p=quarantine; pct=10; t=y'},
    {stage: 'quarantine', state: 'later', record: 'v=DMARC1; p=quarantine'},
    {stage: 'reject', state: 'later', record: 'v=DMARC1; p=reject'},
  ],
  conditions: [
    {kind: 'aligned', met: false, measured: '93.75 % (900 of 960 messages)', wanted: '98 %'},
    {kind: 'days', met: true, measured: '29 days', wanted: '14 days'},
  ],
  next_stage: 'trial',
  ready: false,
  broken: '',
  return_record: '',
  governed_by: '',
  governing_policy: '',
  record_state: 'published',
  summary: 'copperline.example waits at watch: 1 of 2 conditions for trial are met',
};
const rehearsal = (body: Schemas['RehearsalPolicy']): Schemas['Rehearsal'] => ({
  domain: 'copperline.example',
  first: '2026-09-02',
  last: '2026-11-30',
  policy: body,
  record: `v=DMARC1; p=${body.p}`,
  record_state: 'published',
  missing_names: body.np ? ['xyzzy.copperline.example'] : [],
  names_not_measured: 0,
  groups: [{verdict: 'ours', messages: 960, aligned: 900, quarantined: 0, rejected: body.p === 'reject' ? 60 : 0}],
  receivers: [
    {
      receiver: 'tidepost.example',
      label: 'Tidepost',
      messages: 960,
      aligned: 900,
      quarantined: 0,
      rejected: 60,
      ours_hit: 60,
    },
  ],
  to_fix: [
    {
      source: 'old-web.copperline.example',
      verdict: 'ours',
      certainty: 0.9,
      messages: 60,
      aligned: 0,
      quarantined: 0,
      rejected: 60,
      last_hit: '2026-11-30',
      remedy: 'Nothing of it aligns. Sign its mail',
    },
  ],
  quiet_days: 1,
  days_with_reports: 28,
  summary: '60 of 960 messages of ours (6.25 %) would be quarantined or rejected',
});
const details: Schemas['SourceDetails'] = {
  ...crm,
  failing_since: '2026-11-29',
  changes: [{at: '2026-11-28T10:00:00Z', kind: 'record', title: 'TXT at k1._domainkey changed'}],
  failures: 1,
  newest_failures: [
    {
      id: 12,
      receiver: 'Tidepost',
      at: '2026-11-28T11:00:00Z',
      failure: 'dkim',
      header_from: 'copperline.example',
      subject: 'Your ticket',
    },
  ],
  by_address: [
    {ip: '198.51.100.9', host: 'mta.crm.example', mail: mail(40, 40), first_day: '2026-11-29', last_day: '2026-11-30'},
  ],
  by_day: [],
  identities: [
    {
      header_from: 'copperline.example',
      envelope_from: '',
      spf_domain: 'crm.example',
      spf_result: 'pass',
      signatures: [{domain: 'crm.example', selector: 'k1', result: 'pass'}],
      reasons: [],
      messages: 40,
      receivers: ['Tidepost'],
      last_day: '2026-11-30',
    },
  ],
};
const streams: Schemas['StreamAlignment'] = {
  domain: 'copperline.example',
  first: '2026-09-02',
  last: '2026-11-30',
  streams: [
    {
      streams: ['receipts'],
      sources: ['cobble'],
      mail: mail(900, 300),
      failing_since: '2026-11-28',
      not_aligned_at: [
        {receiver: 'tidepost.example', label: 'Tidepost', messages: 500, not_aligned: 300, failing_since: '2026-11-28'},
      ],
      changes: [{at: '2026-11-28T10:00:00Z', kind: 'record', title: 'TXT at k1._domainkey changed'}],
      keys: [
        {
          domain: 'copperline.example',
          selector: 'k1',
          planned: true,
          messages: 900,
          passed: 600,
          first_day: '2026-09-02',
          last_day: '2026-11-30',
        },
      ],
    },
    {
      streams: ['alerts', 'letters'],
      sources: ['cobble'],
      mail: mail(60),
      failing_since: null,
      not_aligned_at: [],
      changes: [],
      keys: [],
    },
  ],
  not_reported: ['minutes'],
};
const answers = {
  [`GET ${DOMAIN}/stream-alignment`]: streams,
  [`GET ${DOMAIN}/sources`]: overview,
  [`GET ${DOMAIN}/policy-path`]: path,
  [`POST ${DOMAIN}/rehearsal`]: (sent: {body: unknown}) => rehearsal(sent.body as Schemas['RehearsalPolicy']),
  [`GET ${DOMAIN}/source`]: details,
};
const show = (at = '/') => open(<SourcesView tenant="copperline" name="copperline.example" days={90} />, at);

describe('sources of a domain', () => {
  it('are listed with whose they are, why, and what does not align', async () => {
    serviceWith(answers);
    show();
    const table = await screen.findByRole('table', {name: 'Sources of copperline.example'});
    expect(within(table).getAllByRole('row')).toHaveLength(4);
    expect(within(table).getAllByText(/203.0.113.17 is an address of cobble \(97 %\)/)).toHaveLength(2);
    expect(screen.getByText('1 source of ours not aligned; 1 unknown source to decide')).toBeTruthy();
    expect(screen.getByText('3 addresses are not judged yet and count as unknown.')).toBeTruthy();
    expect(screen.getByText('shop.copperline.example')).toBeTruthy();
    expect(screen.getByText('more than our events know')).toBeTruthy();
  });

  it('are opened by the address, and decided', async () => {
    const seen = serviceWith({...answers, [`POST ${DOMAIN}/source/decision`]: {...crm, verdict: 'not_ours'}});
    show('/?source=crm.example');
    const card = await screen.findByRole('region', {name: 'crm.example'});
    expect(await within(card).findByText('crm.example/k1 pass')).toBeTruthy();
    expect(within(card).getByText('nothing is certain enough:')).toBeTruthy();
    expect(within(card).getByText(/28 Nov TXT at k1._domainkey changed/)).toBeTruthy();
    await userEvent.click(within(card).getByRole('button', {name: 'Mark as not ours'}));
    const sent = await requestTo(seen, `POST ${DOMAIN}/source/decision`);
    expect([sent.query.get('source'), sent.body]).toEqual(['crm.example', {verdict: 'not_ours', note: ''}]);
  });

  it('are claimed as a relay and a stream', async () => {
    const seen = serviceWith({...answers, [`POST ${DOMAIN}/source/claim`]: {...crm, verdict: 'ours', name: 'crm'}});
    show('/?source=crm.example');
    const card = await screen.findByRole('region', {name: 'crm.example'});
    await userEvent.click(await within(card).findByRole('button', {name: 'Claim …'}));
    await userEvent.type(within(card).getByLabelText('Relay'), 'crm');
    await userEvent.type(within(card).getByLabelText('Stream'), 'letters');
    await userEvent.click(within(card).getByRole('button', {name: 'Claim'}));
    const sent = await requestTo(seen, `POST ${DOMAIN}/source/claim`);
    expect(sent.body).toEqual({relay: 'crm', stream: 'letters', note: ''});
  });

  it('say what to do where no report came', async () => {
    serviceWith({...answers, [`GET ${DOMAIN}/sources`]: {...overview, reports: 0, sources: []}});
    show();
    expect(await screen.findByText('No reports in this period')).toBeTruthy();
    expect(screen.getByRole('button', {name: 'Choose reports'})).toBeTruthy();
  });
});

describe('streams', () => {
  it('say which is not aligned, where, since when, and what changed then', async () => {
    serviceWith(answers);
    show();
    const card = await screen.findByRole('region', {name: 'Our streams'});
    const row = within(card).getAllByRole('row')[1];
    expect(row?.textContent).toContain('receipts');
    expect(row?.textContent).toContain('Tidepost 300 of 500, since 28 Nov');
    expect(within(card).getByText(/k1 600 of 900 passed.*28 Nov TXT at k1._domainkey changed/)).toBeTruthy();
    expect(within(card).getByText('alerts or letters')).toBeTruthy();
    expect(within(card).getByText('Not in any report: minutes.')).toBeTruthy();
  });
});

describe('mail by day', () => {
  it('is a chart and a table of the same numbers', async () => {
    serviceWith(answers);
    show();
    const card = await screen.findByRole('region', {name: 'Mail by day'});
    expect(within(card).getByRole('slider', {name: 'Ours: at most 480 messages a day'})).toBeTruthy();
    expect(within(card).getByText(/960 messages/)).toBeTruthy();
    await userEvent.click(within(card).getByRole('button', {name: 'Show table'}));
    const table = within(card).getByRole('table', {name: 'Mail of copperline.example by day'});
    expect(within(table).getByText('2026-11-30')).toBeTruthy();
  });
});

describe('the rehearsal', () => {
  it('tries reject at first and another policy on request', async () => {
    const seen = serviceWith(answers);
    show();
    expect(await screen.findByText(/60 of 960 messages of ours \(6.25 %\)/)).toBeTruthy();
    expect(screen.getByText('Nothing of it aligns. Sign its mail')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: /Policy/, description: undefined, hidden: false}));
    await userEvent.click(await screen.findByRole('option', {name: 'p=none'}));
    await waitFor(() => {
      const bodies = seen.filter((each) => each.path.endsWith('/rehearsal')).map((each) => each.body);
      expect(bodies).toContainEqual(expect.objectContaining({p: 'none', days: 90}));
    });
    expect(screen.queryByText(/that do not exist/)).toBeNull();
    await userEvent.click(screen.getByRole('button', {name: /Missing subdomains/}));
    await userEvent.click(await screen.findByRole('option', {name: 'np=reject'}));
    expect(await screen.findByText('Subdomains in From that do not exist: xyzzy.copperline.example.')).toBeTruthy();
  });
});

describe('the path to p=reject', () => {
  it('shows stages, conditions, and puts the next stage into the plan', async () => {
    const seen = serviceWith({...answers, [`POST ${DOMAIN}/policy-path/stage`]: path});
    show();
    const card = await screen.findByRole('region', {name: 'Path to p=reject'});
    expect(within(card).getByText('not met')).toBeTruthy();
    expect(within(card).getByText(/93.75 %/)).toBeTruthy();
    await userEvent.click(within(card).getByRole('button', {name: 'Add trial to the record plan'}));
    expect((await requestTo(seen, `POST ${DOMAIN}/policy-path/stage`)).body).toEqual({stage: 'trial'});
    expect(await within(card).findByRole('link', {name: /publish it from there/})).toBeTruthy();
  });

  it('names the record to go back to when mail of ours fails', async () => {
    const broken = {
      ...path,
      stage: 'reject' as const,
      next_stage: null,
      conditions: [],
      broken: '99 of 297 messages failed',
      return_record: 'v=DMARC1; p=quarantine',
    };
    serviceWith({...answers, [`GET ${DOMAIN}/policy-path`]: broken});
    show();
    const card = await screen.findByRole('region', {name: 'Path to p=reject'});
    expect(within(card).getByText('99 of 297 messages failed')).toBeTruthy();
    expect(within(card).getAllByText('v=DMARC1; p=quarantine').length).toBeGreaterThan(0);
  });

  it('waits for what a person sets', async () => {
    const seen = serviceWith({...answers, [`PUT ${DOMAIN}/policy-path`]: path});
    show();
    const card = await screen.findByRole('region', {name: 'Path to p=reject'});
    await userEvent.click(within(card).getByRole('button', {name: 'Conditions'}));
    const share = within(card).getByLabelText('Our mail that aligns, %');
    await userEvent.clear(share);
    await userEvent.type(share, '95');
    await userEvent.click(within(card).getByRole('button', {name: 'Save'}));
    expect((await requestTo(seen, `PUT ${DOMAIN}/policy-path`)).body).toEqual({...path.settings, aligned_share: 0.95});
  });

  it('is that of the domain above where its record holds', async () => {
    const summary = 'that of skerry.example holds, and asks for reject here';
    serviceWith({
      ...answers,
      [`GET ${DOMAIN}/policy-path`]: {...path, stages: [], governed_by: 'skerry.example', summary},
    });
    show();
    const card = await screen.findByRole('region', {name: 'Path to p=reject'});
    expect(within(card).getByRole('link').getAttribute('href')).toBe('/domains/copperline/skerry.example?view=reports');
    expect(within(card).queryByRole('button')).toBeNull();
  });

  it('proposes nothing where DNS gave no answer', async () => {
    const summary = 'DNS gave no answer for _dmarc.copperline.example (timeout)';
    const unknown = {...path, record_state: 'no_answer', stages: [], next_stage: null, running: false, summary};
    const seen = serviceWith({...answers, [`GET ${DOMAIN}/policy-path`]: unknown});
    show();
    const card = await screen.findByRole('region', {name: 'Path to p=reject'});
    expect(within(card).getByText(summary)).toBeTruthy();
    const buttons = within(card).getAllByRole('button');
    expect(buttons.map((each) => each.textContent)).toEqual(['Re-check']);
    await userEvent.click(buttons[0]!);
    await waitFor(() =>
      expect(seen.filter((each) => `${each.method} ${each.path}` === `GET ${DOMAIN}/policy-path`)).toHaveLength(2),
    );
  });

  it('is begun by hand', async () => {
    const seen = serviceWith({
      ...answers,
      [`GET ${DOMAIN}/policy-path`]: {...path, running: false},
      [`PUT ${DOMAIN}/policy-path`]: path,
    });
    show();
    await userEvent.click(await screen.findByRole('button', {name: 'Watch this path'}));
    expect((await requestTo(seen, `PUT ${DOMAIN}/policy-path`)).body).toEqual(path.settings);
  });
});

const report: Schemas['ReportSummary'] = {
  id: 7,
  kind: 'aggregate',
  receiver: 'tidepost.example',
  label: 'Tidepost',
  report_id: 'r-7',
  domain: 'copperline.example',
  ours: true,
  begins_at: '2026-11-30T00:00:00Z',
  ends_at: '2026-11-30T23:59:59Z',
  arrived_at: '2026-12-01T06:00:00Z',
  arrived_by: 'mail',
  authentic: 'signed',
  authentic_domain: 'tidepost.example',
  records: 1,
  left_out: 0,
  messages: 12,
  passed: 5,
  oddities: ['It has no report id'],
};

describe('reports over all domains', () => {
  const all = {
    [`GET ${TENANT}/reported-domains`]: onePage([
      {
        domain: 'copperline.example',
        newest_day: '2026-11-30',
        ours: mail(900),
        forwarded: nothing,
        unknown: mail(40, 40),
        not_ours: nothing,
        unknown_sources: 1,
        path_stage: 'watch',
      },
    ]),
    [`GET ${TENANT}/receivers`]: onePage([
      {
        receiver: 'northgate.example',
        label: 'Northgate',
        kinds: ['aggregate'],
        reports: 3,
        messages: 50,
        newest_end: '2026-11-19T23:59:59Z',
        usual_days: 1,
        silent_since: '2026-11-19T23:59:59Z',
      },
    ]),
    [`GET ${TENANT}/receiver-reports`]: onePage([report]),
    [`GET ${TENANT}/receiver-reports/rejected`]: onePage([
      {
        id: 3,
        arrived_at: '2026-12-01T06:00:00Z',
        arrived_by: 'upload',
        problem: 'The gzip file is damaged',
        why: '',
        remedy: 'Download it again',
        size: 90,
      },
    ]),
    [`POST ${TENANT}/receiver-reports/rejected/replay`]: {tried: 1, stored: 0, duplicates: 0, rejected: 1},
    [`GET ${TENANT}/receiver-reports/7`]: {
      ...report,
      policy: {p: 'none', sp: '', np: '', adkim: 'r', aspf: 'r', pct: '100', fo: '', testing: '', discovery: ''},
      rows: [
        {
          source_ip: '203.0.113.17',
          count: 12,
          header_from: 'copperline.example',
          envelope_from: '',
          spf_domain: 'copperline.example',
          spf_result: 'pass',
          signatures: [],
          spf_aligned: true,
          dkim_aligned: false,
          disposition: 'none',
          reasons: [],
        },
      ],
      more_rows: 0,
      failure: null,
      tls: [],
      overlaps: [6],
      has_original: true,
    },
  };

  it('name domains, silent receivers and what was set aside', async () => {
    const seen = serviceWith(all);
    open(<ReportsPage who={who} />, '/?tenant=copperline');
    expect(await screen.findByRole('link', {name: 'copperline.example'})).toBeTruthy();
    expect(await screen.findByText('silent since 19 Nov')).toBeTruthy();
    expect(await screen.findByText('The gzip file is damaged')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'Retry'}));
    await requestTo(seen, `POST ${TENANT}/receiver-reports/rejected/replay`);
    expect(await screen.findByText('1 tried, 0 stored, 1 set aside again')).toBeTruthy();
  });

  it('open to their rows', async () => {
    serviceWith(all);
    open(<ReportsPage who={who} />, '/?tenant=copperline&report=7');
    const card = await screen.findByRole('region', {name: 'Report 7: Tidepost about copperline.example'});
    expect(within(card).getByText('p=none; adkim=r; aspf=r; pct=100')).toBeTruthy();
    expect(within(card).getByText('It overlaps with reports 6 of the same receiver.')).toBeTruthy();
    expect(within(card).getByText('no signature')).toBeTruthy();
    expect(within(card).getByRole('link', {name: 'Download original'})).toBeTruthy();
  });

  it('are uploaded, and each says what became of it', async () => {
    const seen = serviceWith({
      ...all,
      [`POST ${TENANT}/receiver-reports`]: {
        state: 'duplicate',
        id: 7,
        kind: 'aggregate',
        domain: 'copperline.example',
        receiver: 'tidepost.example',
        records: 1,
        left_out: 0,
        oddities: [],
        problem: '',
        why: '',
        remedy: '',
      },
    });
    const page = open(<ReportsPage who={who} />, '/?tenant=copperline');
    await screen.findByRole('button', {name: 'Choose reports'});
    const input = page.container.querySelector('input[type=file]') as HTMLInputElement;
    await userEvent.upload(input, new File(['<feedback/>'], 'a.xml', {type: 'text/xml'}));
    await requestTo(seen, `POST ${TENANT}/receiver-reports`);
    expect(await screen.findByText('known already')).toBeTruthy();
  });

  it('are stored by a job where they are an archive, with progress and what was set aside', async () => {
    const job: Schemas['Job'] = {
      id: 9,
      kind: 'report_files',
      name: 'november.zip',
      state: 'running',
      done: 40,
      total: 100,
      request: {},
      result: {
        counts: {stored: 44, rejected: 1},
        problems: [{file: 'readme.txt', problem: 'No report found', why: '', remedy: 'Leave it out'}],
      },
      parts: {},
      error: '',
      created_by: 'ailsa@skerry.example',
      created_at: '2026-11-30T10:00:00Z',
      finished_at: null,
    };
    const seen = serviceWith({
      ...all,
      [`GET ${TENANT}/jobs`]: onePage([job]),
      [`POST ${TENANT}/report-files`]: job,
      [`PUT ${TENANT}/jobs/9/pieces/0`]: job,
      [`POST ${TENANT}/jobs/9/run`]: job,
    });
    const page = open(<ReportsPage who={who} />, '/?tenant=copperline');
    await screen.findByRole('button', {name: 'Choose reports'});
    const input = page.container.querySelector('input[type=file]') as HTMLInputElement;
    await userEvent.upload(input, new File(['PK'], 'november.zip', {type: 'application/zip'}));
    expect((await requestTo(seen, `POST ${TENANT}/report-files`)).body).toEqual({name: 'november.zip'});
    await requestTo(seen, `POST ${TENANT}/jobs/9/run`);
    const files = await screen.findByRole('region', {name: 'november.zip'});
    expect(within(files).getByText(/44 stored; 1 set aside/)).toBeTruthy();
    expect(within(files).getByRole('progressbar', {name: 'Progress'})).toBeTruthy();
    expect(within(files).getByText('readme.txt')).toBeTruthy();
    expect(within(files).getByRole('button', {name: 'Cancel'})).toBeTruthy();
  });

  it('say what is wrong when the service does not answer', async () => {
    serviceWith({...all, [`GET ${TENANT}/reported-domains`]: problem(503, 'The database is not reachable')});
    open(<ReportsPage who={who} />, '/?tenant=copperline');
    expect(await screen.findByText('The database is not reachable')).toBeTruthy();
  });
});

describe('TLS', () => {
  it('says what failed, what it means and what enforce would have done', async () => {
    const tls: Schemas['TlsOverview'] = {
      domain: 'copperline.example',
      first: '2026-09-02',
      last: '2026-11-30',
      successful: 900,
      failed: 30,
      days: [{day: '2026-11-30', successful: 900, failed: 30}],
      failures: [
        {
          result: 'certificate-expired',
          meaning: 'The certificate has expired',
          remedy: 'Renew it',
          blocks: true,
          sessions: 30,
          mx: ['mx1.skerry.example'],
          receivers: ['Tidepost'],
          reasons: [],
          first_day: '2026-11-30',
          last_day: '2026-11-30',
        },
      ],
      receivers: [],
      policies: [
        {kind: 'sts', text: ['version: STSv1'], receivers: ['Tidepost'], last_day: '2026-11-30', is_current: false},
      ],
      rehearsal: {
        sessions: 930,
        kept_back: 30,
        days: 1,
        quiet_days: 0,
        summary: 'Mode enforce would have kept back 30 of 930',
      },
    };
    serviceWith({...answers, [`GET ${DOMAIN}/tls`]: tls});
    show();
    const card = await screen.findByRole('region', {name: 'TLS'});
    expect(within(card).getByText('The certificate has expired. Renew it.')).toBeTruthy();
    expect(within(card).getByText('Mode enforce would have kept back 30 of 930.')).toBeTruthy();
    expect(within(card).getByRole('slider', {name: 'Sessions by day, at most 930; 30 failed'})).toBeTruthy();
  });
});

describe('shares', () => {
  it('have a dash where there is no mail', () => {
    expect([share(1, 3), share(0, 0), aligned(mail(10, 4))]).toEqual(['33.3 %', '–', 6]);
  });
});
