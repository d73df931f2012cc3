// Warm-up: today's ceilings, why a step waits, overruling, new plans, and lists that are cut.
import {cleanup, fireEvent, screen, waitFor, within} from '@testing-library/react';
import {afterEach, describe, expect, it} from 'vitest';
import type {Schemas} from '../../api/client';
import {open, problem, serviceWith, withBrowserParts} from '../../testing';
import {hoursIn, numbersIn} from './PlanForm';
import {mailOf, sentenceOf} from './PlanCard';
import {WarmupView} from './WarmupView';

const PLANS = 'GET /api/v1/tenants/halyard/warmup-plans';
const DAYS = 'GET /api/v1/tenants/halyard/warmup-plans/reminders/days';
const JOBS = 'GET /api/v1/tenants/halyard/jobs';

const track = (more: Partial<Schemas['WarmupTrack']>): Schemas['WarmupTrack'] => ({
  provider: 'tidepost.example',
  label: 'Tidepost',
  share: 0.4,
  step: 5,
  since: '2026-11-30',
  per_day: 400,
  per_hour: 50,
  sent: 320,
  sent_this_hour: 12,
  turn: 'next',
  decided_on: '2026-12-01',
  decided_by: '',
  reasons: [],
  why: 'The step before was used, and every rate was below its line',
  ...more,
});
const waiting = track({
  provider: 'orchardmail.example',
  label: 'Orchard Mail',
  step: 2,
  per_day: 40,
  sent: 52,
  turn: 'wait',
  reasons: [{rate: 'deferrals', count: 16, total: 100, line: 0.05, text: 'deferrals: 16 of 100 (16.00 %), above 5 %'}],
  why: 'Waits at this step: deferrals: 16 of 100 (16.00 %), above 5 %',
});
const plan: Schemas['WarmupPlan'] = {
  name: 'reminders',
  domain: 'reminders.halyardclinic.example',
  stream: '',
  relay: '',
  sending_ip: '',
  move_from: '',
  state: 'running',
  starts_on: '2026-11-05',
  ends_on: '2026-12-20',
  day: '2026-12-01',
  shape: 'even',
  steps: [50, 100, 200, 400, 1000],
  hours: [8, 9, 10],
  time_zone: 'UTC',
  hold_back: true,
  skip: false,
  per_day: 440,
  sent: 372,
  tracks: [track({}), waiting],
  created_by: 'Isla Mackay',
  created_at: '2026-11-05T08:00:00Z',
};
const course: Schemas['WarmupDays'] = {
  plan: 'reminders',
  first: '2026-11-30',
  last: '2026-12-01',
  days: [
    {
      day: '2026-12-01',
      provider: 'orchardmail.example',
      label: 'Orchard Mail',
      step: 2,
      per_day: 40,
      sent: 52,
      deferred: 16,
      refused: 0,
      invalid: 0,
      delivered: 50,
      complaints: null,
      copies: 0,
      aside: 0,
      turn: 'wait',
      why: waiting.why,
      decided_by: '',
    },
  ],
};
const job: Schemas['Job'] = {
  id: 7,
  kind: 'list_cut',
  name: 'patients.csv',
  state: 'done',
  done: 10,
  total: 10,
  request: {plan: 'reminders'} as never,
  result: {
    counts: {rows: 5000, cut: 4990, removed: 10},
    plan: 'reminders',
    last: '2026-12-20',
    portions: [
      {
        part: '20261201T08',
        file: '20261201T08.csv',
        at: '2026-12-01T08:00:00Z',
        messages: 50,
        by_provider: {Tidepost: 50},
      },
    ],
  } as never,
  parts: {'20261201T08': 900, calendar: 200, icalendar: 300, removed: 90},
  error: '',
  created_by: 'isla@skerry.example',
  created_at: '2026-12-01T08:00:00Z',
  finished_at: '2026-12-01T08:01:00Z',
};
const all = {[PLANS]: {items: [plan]}, [DAYS]: course, [JOBS]: {items: [job]}, [`${JOBS}/7`]: job};

withBrowserParts();
afterEach(cleanup);

describe('warm-up', () => {
  it('says first what was sent and where it is held back, and why', async () => {
    serviceWith(all);
    open(<WarmupView tenant="halyard" />);
    expect(await screen.findByText('372 of 440 messages were sent today. Held back at Orchard Mail.')).toBeTruthy();
    const today = within(screen.getByRole('table', {name: 'Today'}));
    expect(today.getByRole('img', {name: '80 % of the ceiling'})).toBeTruthy();
    expect(today.getByRole('img', {name: '130 % of the ceiling'})).toBeTruthy();
    expect(today.getByText(/deferrals: 16 of 100/)).toBeTruthy();
    // Of five steps this provider is at the fifth: there is none to go on to.
    expect(today.getByText('last step')).toBeTruthy();
    expect(today.queryByText('goes on')).toBeNull();
    fireEvent.click(await screen.findByRole('button', {name: 'Show table'}));
    const days = within(screen.getByRole('table', {name: 'Course of the plan'}));
    expect(days.getByText('not reported')).toBeTruthy();
  });

  it('lists portions with their files and calendars', async () => {
    serviceWith(all);
    open(<WarmupView tenant="halyard" />);
    expect(await screen.findByText(/4,990 of 5,000 recipients in 1 portions/)).toBeTruthy();
    const link = screen.getByRole('link', {name: 'Calendar as iCalendar'});
    expect(link.getAttribute('href')).toBe('/api/v1/tenants/halyard/jobs/7/parts/icalendar');
    expect(screen.getByRole('link', {name: '20261201T08.csv'})).toBeTruthy();
    expect(screen.getByRole('link', {name: 'Removed rows'})).toBeTruthy();
  });

  it('lets a person set a step, with a reason', async () => {
    const calls: unknown[] = [];
    serviceWith({
      ...all,
      'POST /api/v1/tenants/halyard/warmup-plans/reminders/overrule': (request: {body: unknown}) => {
        calls.push(request.body);
        return plan;
      },
    });
    open(<WarmupView tenant="halyard" />);
    fireEvent.click(await screen.findByRole('button', {name: 'Set a step'}));
    fireEvent.change(screen.getByLabelText('Step'), {target: {value: '3'}});
    expect(screen.getByText('200 messages a day to all providers')).toBeTruthy();
    const save = screen.getByRole<HTMLButtonElement>('button', {name: 'Save'});
    expect(save.disabled).toBe(true);
    fireEvent.change(screen.getByLabelText('Reason'), {target: {value: 'They agreed'}});
    fireEvent.click(save);
    await waitFor(() => expect(calls).toHaveLength(1));
  });

  it('says what a plan is for where there is none, and shows steps while one types', async () => {
    serviceWith({
      ...all,
      [PLANS]: {items: []},
      'GET /api/v1/tenants/halyard/domains': {items: []},
      'GET /api/v1/tenants/halyard/flow/names': {streams: [], relays: [], ips: [], campaigns: [], tags: []},
      'POST /api/v1/tenants/halyard/warmup-plans/preview': {
        steps: [50, 500],
        per_hour: [6, 53],
        starts_on: '2026-12-01',
        ends_on: '2026-12-02',
      },
    });
    open(<WarmupView tenant="halyard" />);
    expect(await screen.findByText('No warm-up plans yet')).toBeTruthy();
    fireEvent.click(screen.getByRole('button', {name: 'Add a plan'}));
    expect(await screen.findByText(/50 → 500/)).toBeTruthy();
  });

  it('says what went wrong', async () => {
    serviceWith({[PLANS]: () => problem(403, 'Your role does not allow this')});
    open(<WarmupView tenant="halyard" />);
    expect(await screen.findByText(/does not allow this/)).toBeTruthy();
  });

  it('reads hours and numbers as people write them', () => {
    expect(hoursIn('8-10, 14')).toEqual([8, 9, 10, 14]);
    expect(hoursIn('22-3')).toEqual([]);
    expect(numbersIn('50, 100 250;x')).toEqual([50, 100, 250]);
  });

  it('names the mail and what comes next in words', () => {
    expect(mailOf({...plan, stream: 'receipts'})).toBe('reminders.halyardclinic.example, stream receipts');
    expect(sentenceOf({...plan, tracks: [track({})]})).toContain('The last step is due on 20 Dec');
    expect(sentenceOf({...plan, state: 'planned'})).toContain('Begins on 5 Nov');
    expect(sentenceOf({...plan, state: 'done'})).toContain('nothing is held back any more');
  });
});
