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
import {numbers} from './ScheduleForm';
import {copyName} from './SchedulesCard';

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
  schedule: '',
  why: '',
  created_by: 'Isla',
  created_at: '2026-11-30T08:00:00Z',
  started_at: '2026-11-30T08:00:00Z',
  ended_at: '2026-11-30T09:00:00Z',
  copies: {inbox: 3, spam: 1},
  inbox: rate(3, 4, 0.3, 0.95),
  providers: [
    {
      provider: 'tidepost.example',
      label: 'Tidepost',
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
  by: 'run',
  domain: 'copperline.example',
  changes: [{day: '2026-11-22', kind: 'record', text: 'DKIM key a1 changed'}],
  providers: [
    {
      provider: 'tidepost.example',
      label: 'Tidepost',
      readings: [
        {day: '2026-11-20', value: 91},
        {day: '2026-11-21', value: 90},
        {day: '2026-11-22', value: 74},
      ],
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
const schedule: Schemas['Schedule'] = {
  name: 'weekly',
  enabled: true,
  when: 'Mondays at 09:00 (UTC)',
  outlet: 'driftline',
  rhythm: {every: 'weekly', hours: [9], minute: 0, weekdays: [1], month_days: [], time_zone: 'UTC'},
  after_records: false,
  after_template: false,
  tray: '',
  template: '',
  seeds: [],
  lists: ['weekly'],
  without_providers: [],
  without_seeds: [],
  keep_custom: true,
  wait_minutes: 60,
  alert: {share: 0.5, copies: 2, after_minutes: 30},
  next_at: '2026-12-07T09:00:00Z',
  ran_at: '2026-11-30T09:00:00Z',
  last_run: 7,
  problem: '',
  address: 'placement-9@bench.skerry.example',
  has_message: true,
  created_by: 'Isla',
  created_at: '2026-11-01T09:00:00Z',
};
const share: Schemas['Share'] = {
  id: 3,
  note: 'the client',
  created_by: 'Isla',
  created_at: '2026-11-30T09:00:00Z',
  expires_at: '2026-12-14T09:00:00Z',
  opened: 2,
  opened_at: '2026-11-30T10:00:00Z',
};
const SCHEDULES = `${TENANT}/placement-schedules`;
const SHARES = `${TENANT}/placement-runs/7/shares`;
const service = (more: Record<string, unknown> = {}) =>
  serviceWith({
    [`GET ${TENANT}/trays`]: onePage([]),
    [`GET ${TENANT}/placement-history`]: history,
    [`GET ${TENANT}/placement-runs`]: onePage([run]),
    [`GET ${TENANT}/seeds`]: onePage([seed]),
    [`GET ${TENANT}/outlets`]: onePage([outlet]),
    [`GET ${TENANT}/placement-runs/7`]: whole,
    [`GET ${SCHEDULES}`]: onePage([schedule]),
    [`GET ${SHARES}`]: onePage([share]),
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
    expect(screen.getAllByText(/DKIM key a1 changed/).length).toBeGreaterThan(0);
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
    expect(within(table).getByText('74')).toBeTruthy();
    expect(within(screen.getByRole('table', {name: 'What else changed'})).getAllByRole('row')).toHaveLength(2);
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

  it('changes a seed without its password, which stays', async () => {
    const seen = service({[`PATCH ${TENANT}/seeds/1`]: seed});
    page();
    const seeds = await screen.findByRole('table', {name: 'Seeds'});
    await userEvent.click(within(seeds).getByRole('button', {name: 'Edit'}));
    await userEvent.type(screen.getByLabelText('Note'), 'since May');
    await userEvent.click(screen.getByRole('button', {name: 'Save'}));
    const sent = (await requestTo(seen, `PATCH ${TENANT}/seeds/1`)).body as Schemas['SeedChange'];
    expect(sent).toMatchObject({note: 'since May', host: 'imap.tidepost.example', lists: ['weekly']});
    expect(sent).not.toHaveProperty('password');
  });

  it('changes an outlet', async () => {
    const seen = service({[`PATCH ${TENANT}/outlets/driftline`]: outlet});
    page();
    const outlets = await screen.findByRole('table', {name: 'Outlets'});
    await userEvent.click(within(outlets).getByRole('button', {name: 'Edit'}));
    await userEvent.type(screen.getByLabelText('Stream'), 'newsletter');
    await userEvent.click(screen.getByRole('button', {name: 'Save'}));
    expect((await requestTo(seen, `PATCH ${TENANT}/outlets/driftline`)).body).toMatchObject({stream: 'newsletter'});
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

describe('a schedule', () => {
  const row = async () => within(await screen.findByRole('table', {name: 'Schedules'}));

  it('says when it runs next, or what keeps it from running', async () => {
    service({
      [`GET ${SCHEDULES}`]: onePage([{...schedule, problem: 'No message was handed in yet. Hand it in'}]),
    });
    page();
    const table = await row();
    expect(table.getByText(/Mondays at 09:00/)).toBeTruthy();
    expect(table.getByText(/No message was handed in yet/)).toBeTruthy();
    expect(table.getByRole('link', {name: 'run 7'})).toBeTruthy();
  });

  it('is paused, run and copied under a name that is free', async () => {
    const seen = service({
      [`PATCH ${SCHEDULES}/weekly`]: {...schedule, enabled: false},
      [`POST ${SCHEDULES}/weekly/copy`]: {...schedule, name: 'weekly-2'},
    });
    page();
    const table = await row();
    await userEvent.click(table.getByRole('checkbox', {name: 'weekly is on'}));
    expect((await requestTo(seen, `PATCH ${SCHEDULES}/weekly`)).body).toEqual({enabled: false});
    await userEvent.click(table.getByRole('button', {name: 'Copy'}));
    expect((await requestTo(seen, `POST ${SCHEDULES}/weekly/copy`)).body).toEqual({name: 'weekly-2'});
  });

  it('is added with its hours, what it leaves out and when it reports', async () => {
    const seen = service({[`POST ${SCHEDULES}`]: schedule});
    page();
    await userEvent.click(await screen.findByRole('button', {name: 'Add a schedule'}));
    await userEvent.type(screen.getByLabelText('Name', {exact: true}), 'daily');
    await userEvent.clear(screen.getByLabelText('Hours'));
    await userEvent.type(screen.getByLabelText('Hours'), '9, 15');
    await userEvent.click(screen.getByRole('checkbox', {name: 'Run after a change of records'}));
    await userEvent.click(screen.getByRole('button', {name: 'Save'}));
    expect((await requestTo(seen, `POST ${SCHEDULES}`)).body).toMatchObject({
      name: 'daily',
      outlet: 'driftline',
      rhythm: {every: 'weekly', hours: [9, 15], weekdays: [1]},
      after_records: true,
      alert: {share: 0.5, copies: 2, after_minutes: 30},
    });
  });

  it('has an address that its message is mailed to', async () => {
    service();
    page();
    await userEvent.click((await row()).getByRole('button', {name: 'Edit'}));
    expect(await screen.findByText('placement-9@bench.skerry.example')).toBeTruthy();
  });
});

describe('a run', () => {
  it('is shared by a link that is shown once', async () => {
    const seen = service({[`POST ${SHARES}`]: {...share, id: 4, url: 'https://gauge.example/shared/abc'}});
    opened();
    const links = await screen.findByRole('table', {name: 'Shared links'});
    expect(within(links).getByText('the client')).toBeTruthy();
    await userEvent.type(screen.getByLabelText('For'), 'the theatre');
    await userEvent.click(screen.getByRole('button', {name: 'Make a link'}));
    expect(await screen.findByText('https://gauge.example/shared/abc')).toBeTruthy();
    expect((await requestTo(seen, `POST ${SHARES}`)).body).toEqual({days: 14, note: 'the theatre'});
  });

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
  it('are read out of what people write', () => {
    expect(numbers('9, 15 20')).toEqual([9, 15, 20]);
    expect(numbers('nine')).toEqual([]);
    expect(copyName('weekly', ['weekly', 'weekly-2'])).toBe('weekly-3');
    expect(copyName('weekly-2', ['weekly-2'])).toBe('weekly-3');
  });

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
