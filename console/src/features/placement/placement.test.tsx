// Placement: runs and where copies landed, one run with its reasons, seeds and outlets, and the day it turned.
import {cleanup, screen, within} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {Route, Routes} from 'react-router';
import {afterEach, describe, expect, it} from 'vitest';
import type {Schemas} from '../../api/client';
import {onePage, open, problem, requestTo, serviceWith, who, withBrowserParts} from '../../testing';
import {BenchPage} from '../bench/BenchPage';
import {byDay} from './HistoryCard';
import {caution, told} from './Landed';
import {RunPage} from './RunPage';

withBrowserParts();
afterEach(cleanup);

const TENANT = '/api/v1/tenants/copperline';
const rate = (count: number, total: number, low: number, high: number): Schemas['Rate'] => ({
  value: count / total,
  low,
  high,
  count,
  total,
});
const run: Schemas['RunSummary'] = {
  id: 7,
  title: '',
  outlet: 'driftline',
  state: 'done',
  subject: 'Open day',
  header_from: 'news@copperline.example',
  mark: null,
  created_by: 'Isla',
  created_at: '2026-11-30T08:00:00Z',
  started_at: '2026-11-30T08:00:00Z',
  ended_at: '2026-11-30T09:00:00Z',
  copies: {inbox: 3, spam: 1},
  inbox: rate(3, 4, 0.3, 0.95),
  providers: [
    {
      provider: 'tidepost.example',
      copies: {inbox: 3, spam: 1},
      inbox: rate(3, 4, 0.3, 0.95),
      spam: rate(1, 4, 0.05, 0.7),
      missing: rate(0, 4, 0, 0.5),
    },
  ],
};
const copy: Schemas['PlacementCopy'] = {
  seed: 1,
  address: 'seed1@tidepost.example',
  provider: 'tidepost.example',
  outcome: 'spam',
  folder: 'Spam',
  label: '',
  reply: '250 2.0.0 Queued',
  problem: '',
  sent_at: '2026-11-30T08:00:01Z',
  arrived_at: '2026-11-30T08:00:05Z',
  seconds: 4,
  hops: [{from_host: 'desk', by_host: 'mx1.tidepost.example', protocol: 'ESMTPS', at: null, seconds: 4}],
  verified: [{method: 'dkim', result: 'fail', properties: 'header.d=copperline.example'}],
  changes: [{where: 'Subject', before: 'Open day', after: '[?] Open day'}],
};
const whole: Schemas['PlacementRun'] = {
  ...run,
  address: '',
  keep_custom: true,
  wait_minutes: 60,
  error: '',
  results: [copy],
};
const seed: Schemas['Seed'] = {
  id: 1,
  address: 'seed1@tidepost.example',
  provider: 'tidepost.example',
  host: 'imap.tidepost.example',
  port: 993,
  security: 'tls',
  user: 'seed1@tidepost.example',
  folders: [{folder: 'INBOX', means: 'inbox', label: ''}],
  lists: ['weekly'],
  note: '',
  enabled: true,
  checked_at: '2026-11-30T08:00:00Z',
  problem: {kind: 'sign-in', what: 'imap.tidepost.example refuses to sign in', remedy: 'Check user and password'},
  seen_folders: [],
  created_at: '2026-11-30T08:00:00Z',
};
const outlet: Schemas['Outlet'] = {
  name: 'driftline',
  host: 'smtp.driftline.example',
  port: 587,
  security: 'starttls',
  user: 'copperline',
  from_name: '',
  from_address: '',
  mail_from: 'bounce@copperline.example',
  relay: 'driftline',
  stream: '',
  extra: [],
  checked_at: '2026-11-30T08:00:00Z',
  problem: null,
  created_at: '2026-11-30T08:00:00Z',
};
const point = (at: string, inbox: number, spam: number): Schemas['PlacementPoint'] => ({
  run: Number(at.slice(8, 10)),
  at,
  outlet: 'driftline',
  inbox,
  spam,
  other: 0,
  lost: 0,
  judged: inbox + spam,
});
const history: Schemas['PlacementHistory'] = {
  first: '2026-09-02',
  last: '2026-11-30',
  outlet: '',
  outlets: ['driftline'],
  runs: 3,
  providers: [
    {
      provider: 'tidepost.example',
      points: [
        point('2026-11-20T08:00:00Z', 4, 0),
        point('2026-11-21T08:00:00Z', 4, 0),
        point('2026-11-22T08:00:00Z', 0, 4),
        point('2026-11-23T08:00:00Z', 0, 4),
      ],
      turn: {
        at: '2026-11-22T08:00:00Z',
        last_before: '2026-11-21T08:00:00Z',
        before: rate(8, 8, 0.7, 1),
        after: rate(0, 8, 0, 0.3),
        worse: true,
        chance: 0.005,
        changes: [{day: '2026-11-22', kind: 'record', text: 'DKIM key a1 changed'}],
      },
    },
  ],
};
const service = (more: Record<string, unknown> = {}) =>
  serviceWith({
    [`GET ${TENANT}/trays`]: onePage([]),
    [`GET ${TENANT}/placement-history`]: history,
    [`GET ${TENANT}/placement-runs`]: onePage([run]),
    [`GET ${TENANT}/seeds`]: onePage([seed]),
    [`GET ${TENANT}/outlets`]: onePage([outlet]),
    [`GET ${TENANT}/placement-runs/7`]: whole,
    ...more,
  });
const page = () => open(<BenchPage who={who} />, '/bench?tenant=copperline&view=placement');
const opened = () =>
  open(
    <Routes>
      <Route path="/placement/:tenant/:id" element={<RunPage />} />
    </Routes>,
    '/placement/copperline/7',
  );

describe('placement', () => {
  it('shows when it turned and what changed then, and each run with the interval of its share', async () => {
    service();
    page();
    expect(await screen.findByText(/Worse since 22 Nov/)).toBeTruthy();
    expect(screen.getByText(/DKIM key a1 changed/)).toBeTruthy();
    const runs = await screen.findByRole('table', {name: 'Placement runs'});
    expect(within(runs).getByText(/3 of 4/).textContent).toContain('(30 to 95 %)');
    expect(within(runs).getByRole('img', {name: '3 inbox, 1 spam'})).toBeTruthy();
  });

  it('has a table for its chart', async () => {
    service();
    page();
    await userEvent.click(await screen.findByRole('button', {name: 'Show table'}));
    const table = screen.getByRole('table', {name: 'Placement over time'});
    expect(within(table).getAllByRole('row')).toHaveLength(5);
  });

  it('says of a seed that cannot be read why, and what to do', async () => {
    service();
    page();
    const seeds = await screen.findByRole('table', {name: 'Seeds'});
    expect(within(seeds).getByText(/refuses to sign in/)).toBeTruthy();
    expect(within(seeds).getByText('Check user and password')).toBeTruthy();
  });

  it('adds a seed with the folders that are looked through', async () => {
    const seen = service({[`POST ${TENANT}/seeds`]: seed});
    page();
    await userEvent.click(await screen.findByRole('button', {name: 'Add a seed'}));
    await userEvent.type(screen.getByLabelText('Address'), 'seed2@kbox.example');
    await userEvent.type(screen.getByLabelText('IMAP server'), 'imap.kestrelbox.example');
    await userEvent.type(screen.getByLabelText('Password'), 'secret');
    await userEvent.click(screen.getByRole('button', {name: 'Add'}));
    const sent = (await requestTo(seen, `POST ${TENANT}/seeds`)).body as Schemas['NewSeed'];
    expect(sent).toMatchObject({address: 'seed2@kbox.example', host: 'imap.kestrelbox.example', security: 'tls'});
    expect(sent.folders?.map((each) => each.folder)).toEqual(['INBOX', 'Spam']);
  });

  it('starts a run that is mailed its message', async () => {
    const seen = service({[`POST ${TENANT}/placement-runs`]: {...whole, state: 'awaiting', address: 'a@b.example'}});
    page();
    await userEvent.click(await screen.findByRole('button', {name: 'Start and mail the message'}));
    expect((await requestTo(seen, `POST ${TENANT}/placement-runs`)).body).toMatchObject({
      outlet: 'driftline',
      keep_custom: true,
      wait_minutes: 60,
    });
  });
});

describe('a run', () => {
  it('warns of few copies, and shows the way, the results and the changes of one', async () => {
    service();
    opened();
    expect(await screen.findByText(/4 copies say little: between 30 and 95 %/)).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'seed1@tidepost.example'}));
    expect(screen.getByText(/desk → mx1.tidepost.example ESMTPS/)).toBeTruthy();
    expect(screen.getByText(/dkim=fail header.d=copperline.example/)).toBeTruthy();
    expect(screen.getByText('[?] Open day')).toBeTruthy();
  });

  it('that awaits its message shows where to mail it to', async () => {
    service({
      [`GET ${TENANT}/placement-runs/7`]: {
        ...whole,
        state: 'awaiting',
        started_at: null,
        subject: '',
        address: 'placement-1@bench.skerry.example',
      },
    });
    opened();
    expect(await screen.findByText('placement-1@bench.skerry.example')).toBeTruthy();
    expect(screen.getByRole('button', {name: 'Cancel run'})).toBeTruthy();
  });

  it('that is not there says so', async () => {
    service({[`GET ${TENANT}/placement-runs/7`]: () => problem(404, 'Copperline has no placement run 7')});
    opened();
    expect(await screen.findByText(/has no placement run 7/)).toBeTruthy();
  });
});

describe('numbers', () => {
  it('of one day are one column, and runs of which nothing is known are none', () => {
    const points = [
      point('2026-11-20T08:00:00Z', 4, 0),
      point('2026-11-20T09:00:00Z', 1, 3),
      point('2026-11-21T08:00:00Z', 0, 0),
    ];
    expect(byDay(points)).toMatchObject([{inbox: 5, spam: 3, judged: 8, runs: 2}]);
  });

  it('are said in words', () => {
    expect(told({missing: 1, inbox: 2})).toBe('2 inbox, 1 missing');
    expect(caution(rate(40, 40, 0.91, 1))).toBe('');
    expect(caution(null)).toBe('');
  });
});
