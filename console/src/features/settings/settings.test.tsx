import {cleanup, screen} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it} from 'vitest';
import type {Schemas} from '../../api/client';
import {open, serviceWith} from '../../testing';
import {SettingsPage} from './SettingsPage';

afterEach(cleanup);
const T = '/api/v1/tenants/glasswort';
const who: Schemas['Who'] = {
  name: 'Isla',
  email: 'isla@skerry.example',
  tenants: [{slug: 'glasswort', name: 'Glasswort Theatre', role: 'admin'}],
};
const hook = (more: Partial<Schemas['Webhook']> = {}): Schemas['Webhook'] => ({
  id: 3,
  name: 'ticket desk',
  url: 'https://desk.glasswort.example/',
  subjects: [],
  paused: false,
  waiting: 1,
  dead: 2,
  created_at: '2026-11-20T12:00:00Z',
  last_at: '2026-11-20T12:00:01Z',
  last_response: '503',
  ...more,
});
const call: Schemas['WebhookCall'] = {
  id: 'msg_1',
  subject: 'proof.lost',
  state: 'dead',
  attempts: 9,
  response: '503',
  body: {},
  created_at: '2026-11-20T12:00:00Z',
  next_at: null,
  finished_at: '2026-11-22T12:00:00Z',
};

describe('settings', () => {
  it('shows who is told, and tries given-up calls anew', async () => {
    const seen = serviceWith({
      [`GET ${T}/webhooks`]: () => [hook()],
      [`GET ${T}/webhooks/3/calls`]: () => ({items: [call], next: null}),
      [`POST ${T}/webhooks/3/replay`]: () => 2,
      'GET /api/v1/tokens': () => [],
    });
    open(<SettingsPage who={who} />);
    expect(await screen.findByText('https://desk.glasswort.example/')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'Open'}));
    expect(await screen.findByText('given up')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'Try 2 calls anew'}));
    expect(seen.some((each) => each.path.endsWith('/webhooks/3/replay'))).toBe(true);
  });

  it('shows the secrets of a new webhook and a new token once', async () => {
    serviceWith({
      [`GET ${T}/webhooks`]: () => [],
      [`POST ${T}/webhooks`]: () => ({...hook(), secret: 'whsec_abc'}),
      'GET /api/v1/tokens': () => [
        {id: 1, name: 'old', tenant: null, created_at: '2026-11-20T12:00:00Z', last_used_at: null, expires_at: null},
      ],
      'POST /api/v1/tokens': () => ({
        id: 2,
        name: 'load',
        tenant: 'glasswort',
        created_at: '2026-11-20T12:00:00Z',
        secret: 'rg_secret',
      }),
    });
    open(<SettingsPage who={who} />);
    expect(await screen.findByText('Nobody is told')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'Add a webhook'}));
    await userEvent.type(screen.getByLabelText('Name'), 'desk');
    await userEvent.type(screen.getByLabelText('Address'), 'https://desk.glasswort.example/');
    await userEvent.click(screen.getByRole('button', {name: 'Add it'}));
    expect(await screen.findByText('whsec_abc')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'I have it'}));
    expect(screen.queryByText('whsec_abc')).toBeNull();
    await userEvent.type(screen.getByLabelText('A new token for this tenant'), 'load');
    await userEvent.click(screen.getByRole('button', {name: 'Make it'}));
    expect(await screen.findByText('rg_secret')).toBeTruthy();
    expect(await screen.findByText('all of yours')).toBeTruthy();
  });

  it('keeps how long events are kept', async () => {
    const seen = serviceWith({
      [`GET ${T}/flow-settings`]: () => ({keep_events_days: 400, false_alarms_a_year: 1}),
      [`PUT ${T}/flow-settings`]: () => ({keep_events_days: 90, false_alarms_a_year: 1}),
    });
    open(<SettingsPage who={who} />);
    const days = await screen.findByLabelText('Keep events for, days');
    await userEvent.clear(days);
    await userEvent.type(days, '90');
    await userEvent.click(screen.getByRole('button', {name: 'Keep these settings'}));
    expect(seen.find((each) => each.method === 'PUT')!.body).toEqual({keep_events_days: 90, false_alarms_a_year: 1});
  });

  it('shows what is kept of a person, and erases it only with a reason', async () => {
    const seen = serviceWith({
      [`GET ${T}/recipient-data`]: () => ({
        tenant: 'copperline',
        address: 'kim@tidepost.example',
        made_at: '2026-11-20T08:00:00Z',
        events: [],
        entries: [],
        changes: [],
        rejected: [],
      }),
      [`POST ${T}/erasures`]: () => ({
        erased_at: '2026-11-20T08:00:00Z',
        erased_by: 'Isla',
        reason: 'ticket 812',
        events: 3,
        others: 1,
      }),
    });
    open(<SettingsPage who={who} />);
    await userEvent.type(await screen.findByLabelText('Whose, an address'), 'kim@tidepost.example');
    await userEvent.click(screen.getByRole('button', {name: 'See what is kept'}));
    const erase = await screen.findByRole('button', {name: 'Erase for good'});
    expect(erase.hasAttribute('disabled')).toBe(true);
    await userEvent.type(screen.getByLabelText('Erase it: why'), 'ticket 812');
    await userEvent.click(erase);
    expect(await screen.findByText('Erased from 3 events and 1 other places')).toBeTruthy();
    expect(seen.find((each) => each.path.endsWith('/erasures') && each.method === 'POST')!.body).toEqual({
      address: 'kim@tidepost.example',
      reason: 'ticket 812',
      may_be_mailed_again: false,
    });
  });
});
