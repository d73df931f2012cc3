// The views of an audit: check-list, lookup tree, streams, history, trials, batches, settings.
import {cleanup, screen, waitFor, within} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it, vi} from 'vitest';
import type {Schemas} from '../../api/client';
import {onePage, open, problem, requestTo, serviceWith} from '../../testing';
import {AuditSettingsCard, listLines, readLists} from './AuditSettingsCard';
import {BatchesCard} from './BatchesCard';
import {BulkCard, ChecksCard} from './ChecksCard';
import {between, HistoryView} from './HistoryView';
import {aboutKey} from './RecordsCard';
import {SendersCard, SpfCard} from './SpfCard';
import {AlignmentCard, StreamSettings} from './StreamsView';
import {TlsReport, TryView, Report} from './TryView';
import {Needs} from '../../design/may';

afterEach(cleanup);

const T = '/api/v1/tenants/copperline';
const NAME = 'copperline.example';
const audit = (more: Partial<Schemas['Audit']>): Schemas['Audit'] => ({
  id: 1,
  domain: NAME,
  unicode_name: '',
  finished_at: '2026-11-20T12:00:00Z',
  faults: 0,
  risks: 0,
  notes: 0,
  cause: 'asked',
  records: [],
  findings: [],
  questions: [],
  checks: [],
  keys: [],
  hosts: [],
  streams: [],
  lists: [],
  bulk: [],
  ...more,
});

describe('the check-list', () => {
  it('gives each state its word and counts what needs a look', () => {
    const checks: Schemas['CheckPoint'][] = [
      {key: 'spf', title: 'SPF', state: 'fault', summary: '2 records'},
      {key: 'dane', title: 'DANE', state: 'absent', summary: 'No TLSA record'},
      {key: 'hosts', title: 'PTR and HELO', state: 'unmeasured', summary: 'No address is known'},
    ];
    open(<ChecksCard audit={audit({checks})} />);
    expect(screen.getByText('3 requirements, 1 not met')).toBeTruthy();
    expect(screen.getByText('not used')).toBeTruthy();
    expect(screen.getByText('unknown')).toBeTruthy();
  });

  it('keeps "not measured yet" apart from met and not met', () => {
    const bulk: Schemas['BulkPoint'][] = [
      {
        key: 'tls',
        text: 'Mail is handed over TLS',
        state: 'unmeasured',
        detail: 'nothing was counted',
        since: '2024-02-01',
      },
    ];
    open(<BulkCard audit={audit({bulk})} />);
    expect(screen.getByText('not measured yet')).toBeTruthy();
  });
});

const leaf = (term: string, more: Partial<Schemas['LookupNode']> = {}): Schemas['LookupNode'] => ({
  term,
  name: 'x.example',
  problem: '',
  detail: '',
  cost: 1,
  networks: [],
  children: [],
  ...more,
});
const spf: Schemas['SpfPicture'] = {
  lookups: 12,
  limit: 10,
  voids: 1,
  truncated: false,
  own_networks: ['192.0.2.0/24'],
  nodes: [
    leaf('include:a.example', {cost: 2, children: [leaf('a:gone.example', {problem: 'void', detail: 'no such name'})]}),
  ],
  networks: [{network: '192.0.2.0/24', via: ['ip4:192.0.2.0/24'], kind: 'documentation', wide: false}],
  overlaps: [{inner: '192.0.2.7/32', outer: '192.0.2.0/24', inner_via: ['mx'], outer_via: ['ip4:192.0.2.0/24']}],
  ipv4_addresses: 256,
  ipv6_addresses: 0,
  open_ended: true,
};

describe('SPF', () => {
  it('draws the tree with what is wrong where it is wrong', () => {
    open(<SpfCard spf={spf} />);
    expect(screen.getByRole('img', {name: '12 of 10 lookups'}).children).toHaveLength(12);
    const tree = within(screen.getByRole('list', {name: 'Lookup tree'}));
    expect(tree.getAllByText('no such name')).toHaveLength(2);
    expect(screen.getByText(/2 over the limit/)).toBeTruthy();
  });

  it('says who may send and what is named twice', () => {
    open(<SendersCard spf={spf} file="x.csv" />);
    expect(screen.getByText(/256 IPv4 addresses; 1 listed twice/)).toBeTruthy();
    expect(screen.getByText(/may authorise further senders/)).toBeTruthy();
  });
});

const result = (
  way: 'suffix-list' | 'tree-walk',
  more: Partial<Schemas['DmarcResult']> = {},
): Schemas['DmarcResult'] => ({
  way,
  header_from: NAME,
  organisation: NAME,
  result: 'fail',
  disposition: 'quarantine',
  share: 40,
  policy: 'quarantine',
  owner: NAME,
  aligned: [],
  reason: 'SPF passed for relay.example, which is another organisation',
  ...more,
});

describe('streams', () => {
  it('says what would happen to the mail, by both ways', () => {
    const stream: Schemas['StreamResult'] = {
      name: 'visitors',
      relay: 'cobble',
      header_from: NAME,
      envelope: 'relay.example',
      dkim_domain: '',
      selector: '',
      spf: [{ip: '203.0.113.17', result: 'pass', reason: ''}],
      by_list: result('suffix-list'),
      by_walk: result('tree-walk', {disposition: 'reject', share: 100}),
    };
    open(<AlignmentCard audit={audit({streams: [stream]})} />);
    expect(screen.getByText(/sent to spam \(40 % of it\)\. By the tree walk: fail, refused\./)).toBeTruthy();
  });

  it('describes one and asks for a new audit', async () => {
    const changed = vi.fn();
    const domain = {name: NAME, tenant: 'copperline', origin: 'added', selectors: [], added_at: '', streams: []};
    const seen = serviceWith({
      [`GET ${T}/domains/${NAME}`]: domain,
      [`PATCH ${T}/domains/${NAME}`]: (sent: {body: unknown}) => ({...domain, ...(sent.body as object)}),
    });
    open(<StreamSettings tenant="copperline" name={NAME} onChanged={changed} />);
    await userEvent.click(await screen.findByRole('button', {name: 'Add a stream'}));
    await userEvent.type(screen.getByLabelText('Stream'), 'visitors');
    await userEvent.type(screen.getByLabelText('Sending addresses'), '203.0.113.17 203.0.113.18');
    await userEvent.click(screen.getByRole('button', {name: 'Save stream'}));
    await waitFor(() => expect(changed).toHaveBeenCalled());
    const body = seen.find((sent) => sent.method === 'PATCH')!.body as {streams: {name: string; ips: string[]}[]};
    expect(body.streams[0]).toMatchObject({name: 'visitors', ips: ['203.0.113.17', '203.0.113.18']});
  });
});

describe('history', () => {
  it('finds the characters that changed', () => {
    expect(between('v=spf1 a -all', 'v=spf1 mx -all')).toEqual([7, 8, 9]);
    expect(between('same', 'same')).toEqual([4, 4, 4]);
    expect(between('aa', 'aaa')).toEqual([2, 2, 3]);
  });

  it('shows changes and the newest two audits beside each other', async () => {
    const summary = (id: number, faults: number) => ({
      id,
      domain: NAME,
      finished_at: `2026-11-${10 + id}T12:00:00Z`,
      faults,
      risks: 0,
      notes: 0,
      cause: 'asked',
    });
    const change = {purpose: 'spf', name: NAME, rdtype: 'TXT', before: ['v=spf1 ~all'], after: ['v=spf1 -all']};
    const seen = serviceWith({
      [`GET ${T}/domains/${NAME}/history`]: {
        items: [{id: 4, at: '2026-11-12T12:00:00Z', kind: 'record', title: `${NAME} TXT changed`, audit: 2, change}],
        next: null,
      },
      [`GET ${T}/domains/${NAME}/audits`]: {items: [summary(2, 0), summary(1, 1)], next: null},
      [`GET ${T}/domains/${NAME}/audits/compare`]: {
        before: summary(1, 1),
        after: summary(2, 0),
        records: [change],
        appeared: [],
        gone: [],
        checks: [],
      },
    });
    open(<HistoryView tenant="copperline" name={NAME} />);
    expect(await screen.findByText(`${NAME} TXT changed`)).toBeTruthy();
    await waitFor(() => expect(screen.getAllByText('~').length).toBe(2));
    expect(Object.fromEntries(seen.find((sent) => sent.path.endsWith('/compare'))!.query)).toEqual({
      before: '1',
      after: '2',
    });
  });
});

describe('trials', () => {
  it('tries a record before it is published and shows the steps', async () => {
    const trial: Schemas['SpfCheck'] = {
      helo: null,
      postmaster: false,
      mail_from: {
        identity: 'mail_from',
        domain: NAME,
        result: 'softfail',
        reason: '~all matches',
        term: '~all',
        decided_by: NAME,
        explanation: '',
        lookups: 1,
        voids: 0,
        steps: [{depth: 0, domain: NAME, term: '~all', column: 8, outcome: 'match', asked: [], answer: [], note: ''}],
      },
    };
    const seen = serviceWith({[`POST ${T}/spf-checks`]: trial});
    open(<TryView tenant="copperline" name={NAME} />);
    await userEvent.type(screen.getByLabelText('Sending IP'), '192.0.2.9');
    await userEvent.type(screen.getByLabelText('Record to test instead of the published one'), 'v=spf1 ~all');
    await userEvent.click(screen.getByRole('button', {name: 'Test'}));
    expect(await screen.findByText('softfail')).toBeTruthy();
    expect((await requestTo(seen, `POST ${T}/spf-checks`)).body).toMatchObject({
      ip: '192.0.2.9',
      mail_from: `bounce@${NAME}`,
      record: 'v=spf1 ~all',
    });
  });

  it('says why an address is none', async () => {
    serviceWith({[`POST ${T}/spf-checks`]: problem(422, 'Invalid request', {detail: 'x is not an IP address'})});
    open(<TryView tenant="copperline" name={NAME} />);
    await userEvent.type(screen.getByLabelText('Sending IP'), 'x');
    await userEvent.click(screen.getByRole('button', {name: 'Test'}));
    expect((await screen.findByRole('alert')).textContent).toContain('x is not an IP address');
  });
});

describe('many domains', () => {
  it('starts a batch, shows how far it is, stops it and goes on', async () => {
    let state = 'running';
    const batch = () => ({id: 3, state, done: 4, total: 10, created_at: '2026-11-20T12:00:00Z', error: ''});
    const seen = serviceWith({
      [`GET ${T}/jobs`]: () => onePage([batch()]),
      [`POST ${T}/batches`]: () => batch(),
      [`POST ${T}/jobs/3/cancel`]: () => ((state = 'cancelled'), batch()),
      [`POST ${T}/jobs/3/run`]: () => ((state = 'running'), batch()),
    });
    open(<BatchesCard tenant="copperline" />);
    await userEvent.type(await screen.findByLabelText(/Domain names/), 'a.example, b.example');
    await userEvent.click(screen.getByRole('button', {name: 'Start audit'}));
    await userEvent.click(await screen.findByRole('button', {name: 'Cancel'}));
    expect(await screen.findByText('cancelled, 4 of 10')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'Resume'}));
    expect(await screen.findByText('running, 4 of 10')).toBeTruthy();
    expect(seen.find((sent) => sent.method === 'POST')!.body).toEqual({
      names: ['a.example', 'b.example'],
      selectors: [],
    });
  });
});

describe('an aggregate report', () => {
  it('says what aligned, source by source, and which selector is new', () => {
    const found: Schemas['FeedbackReport'] = {
      kind: 'aggregate',
      policy: {p: 'none', sp: '', np: '', adkim: 'r', aspf: '', pct: '', fo: '', testing: '', discovery: ''},
      reporter: 'Tidepost',
      report_id: 'r-1',
      domain: 'marram.example',
      begin: '2026-11-20T00:00:00Z',
      end: '2026-11-21T00:00:00Z',
      messages: 9,
      aligned: 7,
      left_out: 2,
      new_selectors: [{domain: 'marram.example', selector: 's9'}],
      sources: [
        {
          source_ip: '192.0.2.9',
          messages: 9,
          aligned: 7,
          header_from: ['marram.example'],
          signatures: ['marram.example s9 pass'],
          spf: [],
          dispositions: ['none'],
          reasons: ['mailing_list: known list'],
        },
      ],
    };
    open(<Report found={found} />);
    expect(screen.getByText('Policy not applied: mailing_list: known list')).toBeTruthy();
    expect(screen.getByText('Policy that the receiver found: p=none; adkim=r')).toBeTruthy();
    expect(screen.getByText('7 of 9 aligned', {selector: 'span'})).toBeTruthy();
    expect(screen.getByText(/New selector s9 of marram.example/)).toBeTruthy();
    expect(screen.getByText('DKIM marram.example s9 pass')).toBeTruthy();
    expect(screen.getByText('2 rows were invalid and skipped')).toBeTruthy();
  });
});

describe('a report on TLS', () => {
  it('says how many sessions were encrypted, and what failed where', () => {
    const found: Schemas['TlsReport'] = {
      kind: 'tls',
      reporter: 'Tidepost',
      report_id: 't-1',
      contact: '',
      begin: '2026-11-20T00:00:00Z',
      end: '2026-11-20T23:59:59Z',
      successful: 512,
      failed: 30,
      left_out: 1,
      policies: [
        {
          policy: 'sts',
          domain: 'marram.example',
          text: [],
          mx: [],
          successful: 512,
          failed: 30,
          failures: [
            {
              result: 'certificate-expired',
              sessions: 30,
              sending_ip: '',
              receiving_mx: 'mx1.marram.example',
              receiving_ip: '198.51.100.7',
              reason: '',
            },
          ],
        },
      ],
    };
    open(<TlsReport found={found} />);
    expect(screen.getByText('512 of 542 sessions')).toBeTruthy();
    expect(screen.getByText(/certificate-expired: 30 sessions to mx1.marram.example/)).toBeTruthy();
    expect(screen.getByText('1 part could not be read')).toBeTruthy();
  });
});

describe('settings', () => {
  const known: Schemas['DnsListSetting'][] = [
    {zone: 'bl.example', kind: 'ip', label: 'Harbour Watch', codes: {'127.0.0.3': 'seen'}},
  ];
  it('writes lists as lines and reads them back with their codes', () => {
    expect(readLists(listLines(known), known)).toEqual(known);
    expect(readLists('a.example\n\nb.example domain Names of it', [])).toEqual([
      {zone: 'a.example', kind: 'ip', label: '', codes: {}},
      {zone: 'b.example', kind: 'domain', label: 'Names of it', codes: {}},
    ]);
  });

  it('saves what was changed and keeps the rest', async () => {
    const seen = serviceWith({
      [`GET ${T}/audit-settings`]: {lists: known, usual_selectors: ['mail'], bulk_rules: []},
      [`PUT ${T}/audit-settings`]: (sent: {body: unknown}) => sent.body,
    });
    open(
      <Needs least="admin">
        <AuditSettingsCard tenant="copperline" />
      </Needs>,
    );
    await userEvent.type(await screen.findByLabelText('Common selectors to try'), ' s1');
    await userEvent.click(screen.getByRole('button', {name: 'Save'}));
    expect(await screen.findByText(/Saved/)).toBeTruthy();
    expect(seen.find((sent) => sent.method === 'PUT')!.body).toEqual({
      lists: known,
      usual_selectors: ['mail', 's1'],
      bulk_rules: [],
    });
  });
});

describe('keys', () => {
  it('tells kind, age and strings of the key at a selector', () => {
    const record: Schemas['PublishedRecord'] = {
      purpose: 'dkim',
      name: `s1._domainkey.${NAME}`,
      rdtype: 'TXT',
      status: 'found',
      values: ['p=x'],
      ttl: 1,
      aliases: [],
      source: 'message',
      strings: [255, 90],
    };
    const key = {
      selector: 's1',
      source: 'message',
      key_type: 'rsa',
      bits: 2048,
      fingerprint: 'f',
      revoked: false,
      usable: true,
      testing: false,
    };
    const old = new Date(Date.now() - 3 * 86_400_000).toISOString();
    expect(aboutKey(audit({keys: [{...key, first_seen: old}]}), record)).toBe(
      'rsa 2048, first seen 3 days ago, 2 strings',
    );
    expect(aboutKey(audit({}), record)).toBe('');
  });
});
