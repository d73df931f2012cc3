// Trays: what was caught and how it came, comparing, settings of a difficult receiver, and marks in the source.
import {cleanup, screen, within} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {Route, Routes} from 'react-router';
import {afterEach, describe, expect, it} from 'vitest';
import type {Schemas} from '../../api/client';
import {onePage, open, problem, requestTo, serviceWith, who, withBrowserParts} from '../../testing';
import {verified} from './Authentication';
import {BenchPage} from './BenchPage';
import {reasonOf, signed} from './CompareView';
import {marksOf} from './MarkedSource';
import {MessagePage, readable} from './MessagePage';
import {TrayPage} from './TrayPage';

withBrowserParts();
afterEach(cleanup);

const TRAYS = '/api/v1/tenants/copperline/trays';
const STAGING = `${TRAYS}/staging`;
const tray: Schemas['Tray'] = {
  name: 'staging',
  title: 'Members application',
  address: 'staging-0a1b@bench.skerry.example',
  smtp_user: 'tray-77',
  rotated_at: '2026-11-30T08:00:00Z',
  keep_days: 14,
  keep_messages: 2000,
  max_bytes: 10485760,
  sending_ip: '',
  series_header: '',
  receiver: [{recipients: 'full@*', action: 'full', reply: '', stage: 'rcpt', seconds: 0}],
  created_at: '2026-11-30T08:00:00Z',
  messages: 2,
  octets: 4096,
};
const message = (id: number, more: Partial<Schemas['CaughtMessage']> = {}): Schemas['CaughtMessage'] => ({
  id,
  arrived_at: '2026-11-30T09:00:00Z',
  via: 'smtp',
  mail_from: 'app@copperline.example',
  recipients: ['kim@tidepost.example'],
  subject: `Your code ${id}`,
  header_from: 'app@copperline.example',
  message_id: '<a@copperline.example>',
  series: 'Your code …',
  size: 2048,
  client_ip: '192.0.2.41',
  helo: 'app.copperline.example',
  tls: 'TLSv1.3',
  state: 'examined',
  mark: 88.5,
  worst: 'risk',
  ...more,
});

const inRoutes = (at: string) =>
  open(
    <Routes>
      <Route path="/bench/:tenant/:name" element={<TrayPage />} />
      <Route path="/bench/:tenant/:name/:id" element={<MessagePage />} />
    </Routes>,
    at,
  );

describe('trays', () => {
  it('are added with a password that is shown once', async () => {
    const seen = serviceWith({
      [`GET ${TRAYS}`]: onePage([]),
      [`POST ${TRAYS}`]: () => ({...tray, password: 'rgb_secret'}),
    });
    open(<BenchPage who={who} />);
    expect(await screen.findByText('No trays yet')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'Add a tray'}));
    await userEvent.type(screen.getByRole('textbox', {name: /^Name/}), 'staging');
    await userEvent.click(screen.getByRole('button', {name: 'Add'}));
    expect(await screen.findByText('rgb_secret')).toBeTruthy();
    expect((await requestTo(seen, `POST ${TRAYS}`)).body).toEqual({name: 'staging', title: ''});
  });

  it('list what they caught, and compare what is chosen', async () => {
    const seen = serviceWith({
      [`GET ${STAGING}`]: tray,
      [`GET ${STAGING}/messages`]: onePage([message(2), message(1, {mark: null, worst: null, state: 'waiting'})]),
      [`GET ${STAGING}/comparison`]: {
        messages: [message(1), message(2, {client_ip: '203.0.113.17'})],
        comparisons: [
          {
            name: '2',
            against: '1',
            mark_before: 95,
            mark_after: 80,
            changes: [
              {kind: 'route', what: 'sending address', before: '192.0.2.41', after: '203.0.113.17'},
              {kind: 'links', what: 'link', before: 'a', after: 'b'},
            ],
            points: [
              {rule: 'address-listed', title: 'The address is listed', before: 0, after: 15, because: ['route']},
            ],
          },
        ],
      },
    });
    inRoutes('/bench/copperline/staging');
    expect(await screen.findByText('examining …')).toBeTruthy();
    await userEvent.click(screen.getByRole('checkbox', {name: 'Compare message 2'}));
    await userEvent.click(screen.getByRole('checkbox', {name: 'Compare message 1'}));
    await userEvent.click(screen.getByRole('button', {name: 'Compare 2'}));
    const points = within(await screen.findByRole('list', {name: 'Points'})).getAllByRole('listitem');
    expect(points.map((each) => each.textContent)).toEqual(['−15The address is listedBecause this changed: route.']);
    expect(screen.getByText('2 kinds of things changed at once:')).toBeTruthy();
    expect((await requestTo(seen, `GET ${STAGING}/comparison`)).query.getAll('message')).toEqual(['1', '2']);
  });

  it('save how they answer as a difficult receiver', async () => {
    const seen = serviceWith({
      [`GET ${STAGING}`]: tray,
      [`PATCH ${STAGING}`]: () => problem(422, 'Invalid request', {detail: 'delay needs `seconds` from 0 to 120'}),
    });
    inRoutes('/bench/copperline/staging?view=settings');
    await userEvent.click(await screen.findByRole('button', {name: 'Add a rule: Difficult receiver'}));
    await userEvent.click(screen.getByRole('button', {name: 'Save'}));
    expect(await screen.findByText(/delay needs/)).toBeTruthy();
    const sent = (await requestTo(seen, `PATCH ${STAGING}`)).body as Schemas['TrayChange'];
    expect(sent.receiver).toEqual([
      {recipients: 'full@*', action: 'full', reply: '', stage: 'rcpt', seconds: 0},
      {recipients: '*', action: 'refuse', reply: '', stage: 'rcpt', seconds: 0},
    ]);
  });
});

describe('a message', () => {
  it('shows how it came, and that it cannot be examined', async () => {
    serviceWith({
      [`GET ${STAGING}/messages/7`]: {
        ...message(7),
        fields: [],
        parts: [],
        text: 'Hello',
        html: null,
        links: [],
        attachments: [],
        codes: [],
      },
      [`GET ${STAGING}/messages/7/assay`]: () => problem(422, 'Invalid request', {detail: 'it has no header'}),
    });
    inRoutes('/bench/copperline/staging/7');
    expect(await screen.findByText(/it has no header/)).toBeTruthy();
  });

  it('is shown octet by octet', () => {
    expect(readable(new Uint8Array([65, 13, 10, 9, 0, 255]))).toBe('A\n\t\\x00\\xff');
  });
});

describe('marks in the source', () => {
  const support: Schemas['HtmlSupport'] = {
    dated: '2026-11-30',
    families: [
      {key: 'word', title: 'Word processor', short: 'Word', device: 'desktop'},
      {key: 'phone', title: 'Phone', short: 'Phone', device: 'phone'},
    ],
    constructs: [
      {
        key: 'element video',
        title: '<video>',
        support: {word: 'no', phone: 'part'},
        instead: 'Link to it.',
        count: 2,
        places: [
          {where: 'part', name: '1', line: 2, column: 3, text: '<video src="a">'},
          {where: 'part', name: '1', line: 9, column: 1, text: '<video>'},
        ],
      },
    ],
  };

  it('stand where a construct stands, with who lacks it', () => {
    const html = '<p>x</p>\n  <video src="a"></video>';
    expect(marksOf(html, support, '')).toEqual([
      {
        line: 2,
        from: 2,
        to: 17,
        level: 'no',
        title: '<video>: not supported by Word, Phone (partly). Link to it.',
      },
    ]);
    expect(marksOf(html, support, 'phone')[0]!.level).toBe('part');
    expect(marksOf('', support, '')).toEqual([]);
  });
});

it('says why points differ', () => {
  expect(reasonOf([])).toContain('Nothing differs');
  expect(reasonOf(['links', 'text'])).toBe('Changed at once, and cannot be told apart: links, text.');
  expect([signed(-6), signed(3.04), signed(0)]).toEqual(['−6', '+3', '0']);
});

const rule: Schemas['AssayRuleView'] = {
  rule: 'subject-shouts',
  group: 'headers',
  level: 'risk',
  points: 3,
  off: false,
  shipped_level: 'risk',
  shipped_points: 3,
  title: 'The subject is in capitals',
  effect: 'It looks like spam.',
  remedy: 'Write it as a sentence.',
  reference: '',
};

it('adjusts a rule for the tenant, and keeps the others', async () => {
  const SETTINGS = '/api/v1/tenants/copperline/assay-settings';
  const kept = {rules: {'date-far': {off: true}}, words_added: ['half price'], words_removed: [], follow_links: false};
  const seen = serviceWith({
    [`GET ${TRAYS}`]: onePage([]),
    'GET /api/v1/tenants/copperline/assay-rules': onePage([rule]),
    [`GET ${SETTINGS}`]: kept,
    [`PUT ${SETTINGS}`]: kept,
    'GET /api/v1/tenants/copperline/text-model': {
      ready: true,
      reason: '',
      low: 14,
      high: 14,
      messages: 84,
      right: 25,
      of: 28,
      learned_at: '2026-11-30T08:00:00Z',
      words: [{text: 'hurry', share: 0.4}],
    },
  });
  open(<BenchPage who={who} />);
  expect(await screen.findByText(/Classified 25 of 28 campaigns correctly/)).toBeTruthy();
  await userEvent.click(screen.getByRole('button', {name: /Adjusted rules/}));
  await userEvent.click(screen.getByRole('option', {name: 'Headers'}));
  await userEvent.click(screen.getByRole('button', {name: 'Adjust'}));
  await userEvent.clear(screen.getByLabelText('Points'));
  await userEvent.type(screen.getByLabelText('Points'), '12');
  await userEvent.click(screen.getByRole('button', {name: 'Save'}));
  expect((await requestTo(seen, `PUT ${SETTINGS}`)).body).toEqual({
    ...kept,
    rules: {'date-far': {off: true}, 'subject-shouts': {level: 'risk', points: 12, off: false}},
  });
});

it('lists what a receiver would verify', () => {
  const part = {
    authentication: {
      header_from: 'd.example',
      signatures: [],
      spf: null,
      dmarc: [],
      problems: [],
      one_click: false,
    },
    arc: {result: 'pass', reason: '1 set holds', sets: [{instance: 1, domain: 'l.example', seal: 'pass', detail: 'x'}]},
  } as unknown as Schemas['Assay'];
  expect(verified(part).map((each) => [each.method, each.result])).toEqual([
    ['DKIM', 'none'],
    ['ARC', 'pass'],
    ['ARC 1', 'pass'],
  ]);
});
