import {cleanup, screen, within} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it} from 'vitest';
import type {Schemas} from '../../api/client';
import {onePage, open, serviceWith, withBrowserParts} from '../../testing';
import {SettingsPage} from './SettingsPage';

afterEach(cleanup);
const T = '/api/v1/tenants/glasswort';
const who: Schemas['Who'] = {
  name: 'Isla',
  email: 'isla@skerry.example',
  tenants: [{slug: 'glasswort', name: 'Glasswort Theatre', role: 'admin'}],
  locked: [],
  is_owner: false,
  second_factor: false,
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

withBrowserParts();

describe('settings', () => {
  it('shows the webhooks, and retries calls that were given up', async () => {
    const seen = serviceWith({
      [`GET ${T}/webhooks`]: () => onePage([hook()]),
      [`GET ${T}/webhooks/3/calls`]: () => ({items: [call], next: null}),
      [`POST ${T}/webhooks/3/replay`]: () => 2,
      'GET /api/v1/tokens': () => onePage([]),
    });
    open(<SettingsPage who={who} />, '/settings/webhooks', '/settings/:section');
    expect(await screen.findByText('https://desk.glasswort.example/')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'Open'}));
    expect(await screen.findByText('failed')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'Retry 2 failed calls'}));
    expect(seen.some((each) => each.path.endsWith('/webhooks/3/replay'))).toBe(true);
  });

  it('shows the secrets of a new webhook and a new token once', async () => {
    serviceWith({
      [`GET ${T}/webhooks`]: () => onePage([]),
      [`POST ${T}/webhooks`]: () => ({...hook(), secret: 'whsec_abc'}),
      'GET /api/v1/tokens': () =>
        onePage([{id: 1, name: 'old', tenants: [], scopes: [], networks: [], created_at: '2026-11-20T12:00:00Z'}]),
      'POST /api/v1/tokens': () => ({
        id: 2,
        name: 'load',
        tenants: ['glasswort'],
        created_at: '2026-11-20T12:00:00Z',
        secret: 'rg_secret',
      }),
    });
    open(<SettingsPage who={who} />, '/settings/webhooks', '/settings/:section');
    expect(await screen.findByText('No webhooks yet')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'Add a webhook'}));
    await userEvent.type(screen.getByLabelText('Name'), 'desk');
    await userEvent.type(screen.getByLabelText('URL'), 'https://desk.glasswort.example/');
    await userEvent.click(screen.getByRole('button', {name: 'Add'}));
    expect(await screen.findByText('whsec_abc')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'Close'}));
    expect(screen.queryByText('whsec_abc')).toBeNull();
    cleanup();
    open(<SettingsPage who={who} />, '/settings/tokens', '/settings/:section');
    await userEvent.type(screen.getByLabelText('Name of the new token'), 'load');
    await userEvent.click(screen.getByRole('button', {name: 'Create token'}));
    expect(await screen.findByText('rg_secret')).toBeTruthy();
    expect((await screen.findAllByText('everything')).length).toBe(1);
  });

  it('keeps how long events are kept', async () => {
    const seen = serviceWith({
      [`GET ${T}/flow-settings`]: () => ({keep_events_days: 400, keep_placement_days: 365, false_alarms_a_year: 1}),
      [`PUT ${T}/flow-settings`]: () => ({keep_events_days: 90, keep_placement_days: 365, false_alarms_a_year: 1}),
    });
    open(<SettingsPage who={who} />, '/settings/retention', '/settings/:section');
    const days = await screen.findByLabelText('Event retention, days');
    await userEvent.clear(days);
    await userEvent.type(days, '90');
    await userEvent.click(screen.getByRole('button', {name: 'Save'}));
    expect(seen.find((each) => each.method === 'PUT')!.body).toEqual({
      keep_events_days: 90,
      keep_placement_days: 365,
      false_alarms_a_year: 1,
    });
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
    open(<SettingsPage who={who} />, '/settings/recipient-data', '/settings/:section');
    await userEvent.type(await screen.findByLabelText('Recipient address'), 'kim@tidepost.example');
    await userEvent.click(screen.getByRole('button', {name: 'Find data'}));
    const erase = await screen.findByRole('button', {name: 'Erase'});
    expect(erase.hasAttribute('disabled')).toBe(true);
    await userEvent.type(screen.getByLabelText('Reason for erasure'), 'ticket 812');
    await userEvent.click(erase);
    await userEvent.click(within(screen.getByRole('alertdialog')).getByRole('button', {name: 'Erase'}));
    expect(await screen.findByText('Erased from 3 events and 1 other row')).toBeTruthy();
    expect(seen.find((each) => each.path.endsWith('/erasures') && each.method === 'POST')!.body).toEqual({
      address: 'kim@tidepost.example',
      reason: 'ticket 812',
      may_be_mailed_again: false,
    });
  });
});
