// Setting a domain up: the plan and what became of it, the watch, choices, keys, relays, proof, publishing.
import {cleanup, screen, within} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it} from 'vitest';
import type {Schemas} from '../../api/client';
import {onePage, open, requestTo, serviceWith} from '../../testing';
import {ChoicesCard, KeyCard, SpfCostCard} from './ChoicesCard';
import {StsCard} from './StsCard';
import {PlanCard} from './PlanCard';
import {concerning, ProofCard} from './ProofCard';
import {ChangeView, PublishCard} from './PublishCard';
import {fromDraft, RelaysCard, toDraft} from './RelaysCard';
import {cell, WatchTable} from './WatchCard';
import {sentence, zoneFile, type Plan, type PlanRecord} from './words';
import {Needs} from '../../design/may';

afterEach(cleanup);

const T = '/api/v1/tenants/glasswort';
const NAME = 'news.glasswort.example';
const settings: Schemas['PlanSettings'] = {
  stage: '',
  policy_percent: 100,
  reports_to: '',
  spf_ending: '',
  spf_ways: [],
  keep_terms: [],
  ttl: 3600,
  mta_sts: '',
  mta_sts_host: '',
  tls_reports_to: '',
};
const check = (more: Partial<Schemas['RecordCheck']>): Schemas['RecordCheck'] => ({
  state: 'matches',
  published: [],
  causes: [],
  pieces: [],
  found_at: '',
  found_value: '',
  lacking: [],
  detail: '',
  ...more,
});
const record = (more: Partial<PlanRecord> = {}): PlanRecord => ({
  key: `spf ${NAME} TXT`,
  purpose: 'spf',
  name: NAME,
  type: 'TXT',
  value: 'v=spf1 -all',
  priority: null,
  ttl: 3600,
  why: 'Lets nobody send',
  relay: '',
  waits_for: '',
  elsewhere: false,
  forms: {
    host: 'news',
    host_or_blank: 'news',
    host_full: NAME,
    host_with_dot: `${NAME}.`,
    value: 'v=spf1 -all',
    value_quoted: '"v=spf1 -all"',
    value_with_priority: 'v=spf1 -all',
    zone_line: `${NAME}. 3600 IN TXT "v=spf1 -all"`,
  },
  check: check({}),
  ...more,
});
const plan = (records: PlanRecord[], more: Partial<Plan> = {}): Plan => ({
  domain: NAME,
  zone: 'glasswort.example',
  settings,
  records,
  spf: [],
  advice: [],
  sts_policy: '',
  servers: [],
  checked_at: '2026-11-20T12:00:00Z',
  right: records.filter((each) => each.check?.state === 'matches').length,
  total: records.length,
  ...more,
});

describe('the sentence on top', () => {
  const differing = record({
    check: check({
      state: 'differs',
      causes: [{key: 'leading-blank', text: 'a space was pasted before the value', column: 1, length: 1}],
    }),
  });
  it.each([
    [plan([]), 'No plan yet.', /Add a stream/],
    [plan([record()]), 'Every record is published as planned.', /Watch/],
    [plan([differing]), '0 of 1 record are published as planned.', /news TXT: a space was pasted/],
    [
      plan([record({check: check({state: 'missing'})})]),
      '0 of 1 record are published as planned.',
      /1 record to publish, first news TXT/,
    ],
    [
      plan([record({waits_for: 'the public key', check: check({state: 'waiting'})})]),
      '0 of 1 record are published as planned.',
      /waits for the public key/,
    ],
  ])('says how far it is and what is next', (given, strong, rest) => {
    expect(sentence(given).strong).toBe(strong);
    expect(sentence(given).rest).toMatch(rest);
  });

  it('writes a zone file with what cannot be published as comments', () => {
    const text = zoneFile(plan([record(), record({elsewhere: true})]));
    expect(text.split('\n').filter((line) => line.startsWith('; news'))).toHaveLength(2);
  });
});

describe('the plan', () => {
  it('copies exactly the host and the value', async () => {
    const user = userEvent.setup();
    open(<PlanCard plan={plan([record()])} onCheck={() => {}} busy={false} />);
    await user.click(screen.getByRole('button', {name: 'Copy value'}));
    expect(await navigator.clipboard.readText()).toBe('v=spf1 -all');
    await user.click(screen.getByRole('button', {name: 'Copy host'}));
    expect(await navigator.clipboard.readText()).toBe('news');
  });

  it('marks what is missing and what is too much, and says why', () => {
    const wrong = record({
      check: check({
        state: 'misplaced',
        found_at: `${NAME}.glasswort.example`,
        causes: [{key: 'zone-twice', text: "the zone's name appears twice", column: 0, length: 0}],
        pieces: [
          {kind: 'extra', planned: '', published: ' '},
          {kind: 'same', planned: 'v=spf1 -all', published: 'v=spf1 -all'},
        ],
      }),
    });
    open(<PlanCard plan={plan([wrong])} onCheck={() => {}} busy={false} />);
    const row = screen.getByRole('article', {name: `${NAME} TXT`});
    expect(within(row).getByText('misplaced')).toBeTruthy();
    expect(within(row).getByText("the zone's name appears twice")).toBeTruthy();
    expect(within(row).getByText('␣').tagName).toBe('INS');
  });
});

const watch: Schemas['Watch'] = {
  id: 4,
  domain: NAME,
  state: 'running',
  summary: '1 of 2 servers have the record; the last will in 2 minutes',
  rounds: 3,
  records: [{key: 'k', name: NAME, type: 'TXT', value: 'v=spf1 -all', seen_by: 1, asked: 2}],
  servers: [
    {label: 'ns1', address: '192.0.2.1', own: true},
    {label: 'Island library', address: '192.0.2.9', own: false},
  ],
  sightings: [
    {key: 'k', server: 'ns1', holds: 'new', values: [], until: null, detail: ''},
    {
      key: 'k',
      server: 'Island library',
      holds: 'old',
      values: ['v=spf1 mx'],
      until: '2026-11-20T12:02:05Z',
      detail: '',
    },
  ],
  created_at: '2026-11-20T12:00:00Z',
  looked_at: '2026-11-20T12:00:00Z',
  next_at: '2026-11-20T12:02:06Z',
  gives_up_at: '2026-11-22T12:00:00Z',
  finished_at: null,
  all_by: null,
};

describe('the watch', () => {
  it('counts old answers down', () => {
    const at = Date.parse('2026-11-20T12:00:00Z');
    expect(cell(watch.sightings[0], at)).toMatchObject({mark: '✓', tone: 'sound'});
    expect(cell(watch.sightings[1], at)).toMatchObject({mark: '≠', until: '2:05', title: 'has v=spf1 mx'});
    expect(cell({...watch.sightings[1]!, holds: 'failed', detail: 'time-out'}, at)).toMatchObject({
      mark: '!',
      title: 'time-out',
    });
    expect(cell(undefined, at).mark).toBe('·');
  });

  it('shows who has which record', () => {
    open(<WatchTable watch={watch} />);
    expect(screen.getByText(/1 of 2 servers have the record/)).toBeTruthy();
    expect(screen.getByTitle(/^has v=spf1 mx, for/)).toBeTruthy();
  });
});

describe('choices', () => {
  it('plans again with what was chosen', async () => {
    const seen = serviceWith({[`PUT ${T}/domains/${NAME}/plan/settings`]: () => plan([])});
    open(<ChoicesCard tenant="glasswort" plan={plan([])} />);
    await userEvent.type(screen.getByLabelText(/DMARC aggregate reports/), 'dmarc@glasswort.example');
    await userEvent.click(screen.getByRole('button', {name: 'Save and plan'}));
    expect((await requestTo(seen, `PUT ${T}/domains/${NAME}/plan/settings`)).body).toMatchObject({
      reports_to: 'dmarc@glasswort.example',
      stage: '',
    });
  });

  it('offers ways out when SPF costs too much', async () => {
    const seen = serviceWith({[`PUT ${T}/domains/${NAME}/plan/settings`]: () => plan([])});
    const option = {
      way: 'list' as const,
      relay: 'driftline',
      saves: 3,
      lookups_after: 9,
      price: '2 networks written out',
      value: 'v=spf1',
    };
    const spf = {
      name: NAME,
      value: 'v=spf1',
      lookups: 12,
      per_relay: [{relay: 'driftline', lookups: 3}],
      options: [option],
      problems: [],
    };
    open(<SpfCostCard tenant="glasswort" plan={plan([], {spf: [spf]})} />);
    expect(screen.getByText('12 of 10')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'Apply'}));
    expect((await requestTo(seen, `PUT ${T}/domains/${NAME}/plan/settings`)).body).toMatchObject({
      spf_ways: [{relay: 'driftline', way: 'list'}],
    });
  });

  it('shows a private key once', async () => {
    serviceWith({
      [`POST ${T}/domains/${NAME}/plan/keys`]: () => ({
        name: `g2._domainkey.${NAME}`,
        selector: 'g2',
        kind: 'rsa2048',
        record: 'v=DKIM1',
        private_key: 'SECRET PEM',
      }),
    });
    open(<KeyCard tenant="glasswort" name={NAME} />);
    await userEvent.type(screen.getByLabelText('Selector'), 'g2');
    await userEvent.click(screen.getByRole('button', {name: 'Generate'}));
    expect(await screen.findByText('SECRET PEM')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'Close'}));
    expect(screen.queryByText('SECRET PEM')).toBeNull();
  });
});

const relay: Schemas['Relay'] = {
  name: 'driftline',
  described: true,
  own: false,
  hosts: [{ip: '198.51.100.21', helo: 'out1.driftline.example'}],
  include: 'spf.driftline.example',
  networks: [],
  dkim: [
    {selector: 'df1', type: 'CNAME', value: 'df1.keys.driftline.example'},
    {selector: 'cb1', type: 'TXT', value: ''},
  ],
  return_path: {label: 'bounce', type: 'MX', value: 'returns.driftline.example', priority: 10, spf: ''},
  tracking: null,
  inbound: [{priority: 10, host: 'in1.driftline.example'}],
  limits: [
    {
      region: 'north',
      per_second: null,
      per_hour: 500,
      per_day: 4000,
      streams: ['receipts'],
      restricted: true,
      hold_back: false,
    },
  ],
  lines: {bounce_watch: 0.05, bounce_stop: 0.1, complaint_watch: null, complaint_stop: null},
  note: 'kept',
  domains: [NAME],
};

describe('relays', () => {
  it('are edited row by row; a figure that is not one is left to the service to refuse', async () => {
    const seen = serviceWith({
      [`GET ${T}/relays`]: () => onePage([relay]),
      [`PUT ${T}/relays/driftline`]: () => relay,
    });
    open(<RelaysCard tenant="glasswort" />);
    await userEvent.click(await screen.findByRole('button', {name: 'Edit'}));
    await userEvent.click(screen.getByRole('button', {name: 'Delete row 1 of DKIM keys'}));
    await userEvent.click(screen.getByRole('button', {name: 'Add IP: Sending IPs'}));
    const row = within(screen.getByRole('group', {name: 'Sending IPs, row 2'}));
    await userEvent.type(row.getByLabelText('IP address'), '198.51.100.22');
    await userEvent.clear(screen.getByLabelText('Bounces, stop line, %'));
    await userEvent.type(screen.getByLabelText('Bounces, stop line, %'), 'ten');
    await userEvent.click(screen.getByRole('button', {name: 'Save'}));
    const sent = seen.find((each) => each.method === 'PUT')!.body;
    expect(sent).toMatchObject({
      dkim: [{selector: 'cb1', type: 'TXT', value: ''}],
      hosts: [relay.hosts[0], {ip: '198.51.100.22', helo: ''}],
      lines: {bounce_watch: 0.05, bounce_stop: 'ten'},
    });
  });

  it('read back from the form as they were', () => {
    const again = {...fromDraft(toDraft(relay), relay), name: relay.name, described: true, domains: relay.domains};
    expect(again).toEqual(relay);
  });

  it('are listed with what they require and allow', async () => {
    serviceWith({[`GET ${T}/relays`]: () => onePage([relay])});
    open(<RelaysCard tenant="glasswort" />);
    expect(await screen.findByText(/include:spf.driftline.example · 198.51.100.21 · keys df1, cb1/)).toBeTruthy();
    expect(screen.getByText('north, 500 per hour, 4,000 per day, proven recipients only, for receipts')).toBeTruthy();
  });
});

const proof = (more: Partial<Schemas['Proof']>): Schemas['Proof'] => ({
  id: 1,
  kind: 'domain',
  subject: NAME,
  method: 'record',
  state: 'waiting',
  record_name: `_rustgauge.${NAME}`,
  record: 'rustgauge-proof=x',
  sent_to: '',
  tries_left: 5,
  created_at: '2026-11-20T12:00:00Z',
  expires_at: null,
  verified_at: null,
  checked_at: null,
  lost_at: null,
  ...more,
});

describe('proof', () => {
  it('of a domain covers what is below it, of an address only itself', () => {
    const all = [
      proof({subject: 'glasswort.example'}),
      proof({kind: 'address', subject: `a@${NAME}`}),
      proof({subject: 'other.example'}),
      proof({kind: 'address', subject: 'a@glasswort.example'}),
    ];
    expect(concerning(all, NAME).map((each) => each.subject)).toEqual(['glasswort.example', `a@${NAME}`]);
  });

  it('takes the code of the message', async () => {
    const seen = serviceWith({
      [`GET ${T}/proofs`]: () =>
        onePage([proof({kind: 'address', subject: `a@${NAME}`, method: 'mail', sent_to: `a@${NAME}`})]),
      [`GET ${T}/senders`]: () => onePage([]),
      [`POST ${T}/proofs/1/code`]: () => proof({state: 'verified'}),
    });
    open(<ProofCard tenant="glasswort" name={NAME} />);
    await userEvent.type(await screen.findByLabelText(/Code from the message/), 'ABCD2345');
    await userEvent.click(screen.getByRole('button', {name: 'Submit'}));
    expect(seen.find((each) => each.method === 'POST')!.body).toEqual({code: 'ABCD2345'});
  });
});

describe('publishing', () => {
  const change = {
    name: NAME,
    type: 'TXT',
    ttl: 3600,
    before_ttl: 300,
    before: ['"old"', '"kept"'],
    after: ['"kept"', '"new"'],
  };
  it('shows what goes, what comes and what stays', () => {
    open(<ChangeView changes={[change]} />);
    expect(screen.getByText('- 300 "old"')).toBeTruthy();
    expect(screen.getByText('+ 3600 "new"')).toBeTruthy();
    expect(screen.queryByText('- 300 "kept"')).toBeNull();
  });

  it('applies only what was shown', async () => {
    const seen = serviceWith({
      [`GET ${T}/update-servers`]: () =>
        onePage([
          {zone: 'glasswort.example', address: '192.0.2.53:53', key_name: 'k.example', algorithm: 'hmac-sha256'},
        ]),
      [`GET ${T}/domains/${NAME}/publications`]: () => onePage([]),
      [`POST ${T}/domains/${NAME}/plan/changes`]: () => ({
        zone: 'glasswort.example',
        server: '192.0.2.53 port 53',
        changes: [change],
        obstacles: [],
        digest: 'd1',
      }),
      [`POST ${T}/domains/${NAME}/publications`]: () => ({}),
    });
    open(
      <Needs least="admin">
        <PublishCard tenant="glasswort" name={NAME} zone="glasswort.example" />
      </Needs>,
    );
    await userEvent.click(await screen.findByRole('button', {name: 'Preview changes'}));
    await userEvent.click(await screen.findByRole('button', {name: 'Publish 1 change in glasswort.example'}));
    expect(seen.findLast((each) => each.method === 'POST')!.body).toEqual({keys: [], digest: 'd1'});
  });
});

describe('the MTA-STS policy', () => {
  const STS = `/api/v1/tenants/glasswort/domains/${NAME}/sts-policy`;
  const serving: Schemas['StsServing'] = {
    domain: NAME,
    host: `mta-sts.${NAME}`,
    served: 'version: STSv1\nmode: testing\n',
    planned: 'version: STSv1\nmode: enforce\n',
    id: '20261120T120000',
    steps: [
      {
        kind: 'mx',
        title: 'Add mx2 to the MX records',
        why: 'By now every sender knows it',
        seconds: 604_800,
        policy: '',
      },
      {
        kind: 'policy',
        title: 'Serve the new policy',
        why: 'Senders see the new id',
        seconds: 0,
        policy: 'version: STSv1\n',
      },
    ],
  };

  it('shows the steps with their waiting times, and serves the next policy', async () => {
    const seen = serviceWith({[`GET ${STS}`]: serving, [`POST ${STS}`]: {...serving, steps: []}});
    open(<StsCard tenant="glasswort" name={NAME} />);
    expect(await screen.findByText(/Add mx2 to the MX records; then wait 7 days/)).toBeTruthy();
    expect(screen.getByText(`served for mta-sts.${NAME}, id 20261120T120000`)).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'Serve the next policy'}));
    expect((await requestTo(seen, `POST ${STS}`)).method).toBe('POST');
  });

  it('offers to serve the planned one at first', async () => {
    serviceWith({[`GET ${STS}`]: {...serving, served: '', id: '', steps: []}});
    open(<StsCard tenant="glasswort" name={NAME} />);
    expect(await screen.findByRole('button', {name: 'Serve this policy'})).toBeTruthy();
    expect(screen.getByText(/mode: enforce/)).toBeTruthy();
  });
});
