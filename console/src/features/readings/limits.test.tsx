// Sending limits of a relay: use, hits, and what is not proven.
import {cleanup, screen, within} from '@testing-library/react';
import {afterEach, describe, expect, it} from 'vitest';
import type {Schemas} from '../../api/client';
import {open, problem, serviceWith, withBrowserParts} from '../../testing';
import {LimitsCard, foresee} from './LimitsCard';

const PATH = 'GET /api/v1/tenants/marram/relays/driftline/usage';
const limitUse = (more: Partial<Schemas['LimitUse']>): Schemas['LimitUse'] => ({
  per: 'day',
  limit: 20_000,
  used: 18_200,
  remaining: 1_800,
  reached_at: '2026-12-01T15:40:00Z',
  free_at: null,
  ...more,
});
const usage: Schemas['RelayUsage'] = {
  relay: 'driftline',
  at: '2026-12-01T12:00:00Z',
  days: 7,
  limits: [
    {region: 'north', streams: [], restricted: false, hold_back: true, pace: 490, uses: [limitUse({})]},
    {
      region: 'south',
      streams: ['receipts'],
      restricted: true,
      hold_back: false,
      pace: 0,
      uses: [limitUse({limit: 200, used: 200, remaining: 0, reached_at: null, free_at: '2026-12-02T08:00:00Z'})],
    },
  ],
  hits: [
    {
      provider: 'tidepost.example',
      label: 'Tidepost',
      by_relay: false,
      replies: 7,
      first_at: '2026-12-01T10:00:00Z',
      last_at: '2026-12-01T11:00:00Z',
      reply: '421 4.7.0 limit 40 messages per hour',
      stated: 40,
      stated_per: 'hour',
      use: limitUse({per: 'hour', limit: 40, used: 12, remaining: 28, reached_at: null}),
      mail_then: 60,
      most_without: 30,
    },
  ],
  unproven: [
    {
      reply: '554 address is not verified in region south',
      replies: 3,
      last_day: '2026-12-01',
      address: '',
      domain: '',
      region: 'south',
      remedy: 'Prove the From address at the relay in its region south.',
    },
  ],
};

withBrowserParts();
afterEach(cleanup);

describe('the limits of a relay', () => {
  it('show what is used, what hit them and what to prove', async () => {
    serviceWith({[PATH]: usage});
    open(<LimitsCard tenant="marram" relay="driftline" />);
    const limits = within(await screen.findByRole('table', {name: 'Sending limits'}));
    expect(limits.getByRole('img', {name: '91 % used'})).toBeTruthy();
    expect(limits.getByText(/used up; room again from/)).toBeTruthy();
    expect(limits.getByText('restricted')).toBeTruthy();
    expect(limits.getByText('says later')).toBeTruthy();
    const hits = within(screen.getByRole('table', {name: 'Too much mail'}));
    expect(hits.getByText('40 an hour')).toBeTruthy();
    expect(hits.getByRole('img', {name: '30 % used'})).toBeTruthy();
    expect(screen.getByText(/Prove the From address at the relay/)).toBeTruthy();
  });

  it('say what will be here where none are described', async () => {
    serviceWith({[PATH]: {...usage, limits: [], hits: [], unproven: []}});
    open(<LimitsCard tenant="marram" relay="driftline" />);
    expect(await screen.findByText('No limits are described')).toBeTruthy();
  });

  it('say what went wrong', async () => {
    serviceWith({[PATH]: () => problem(404, 'Marram has no relay driftline')});
    open(<LimitsCard tenant="marram" relay="driftline" />);
    expect(await screen.findByText(/has no relay driftline/)).toBeTruthy();
  });

  it('tell what becomes of each in words', () => {
    expect(foresee(limitUse({}))).toMatch(/^reached at .* at the pace of the last hour$/);
    expect(foresee(limitUse({reached_at: null}))).toBe('not reached at this pace');
    expect(foresee(limitUse({per: 'second', reached_at: null}))).toContain('busiest second');
  });
});
