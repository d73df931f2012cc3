import {cleanup, screen, within} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it} from 'vitest';
import type {Schemas} from '../../api/client';
import {onePage, open, problem, serviceWith, type Sent, withBrowserParts} from '../../testing';
import {AlertsCard} from './AlertsCard';
import {StreamPausesCard} from './StreamPausesCard';
import {FactorsCard} from './FactorsCard';

afterEach(cleanup);
const T = '/api/v1/tenants/glasswort';
const way: Schemas['AlertChannel'] = {
  kind: 'mail',
  name: 'Isla',
  to: ['isla@skerry.example'],
  url: '',
  template: '{"text": "{title}"}',
  min_level: 'fix',
  quiet_from: '22:00',
  quiet_to: '06:00',
};
const kept: Schemas['AlertSettings'] = {
  wait_minutes: 15,
  repeat_hours: 24,
  resolve_hours: 2,
  confidence: 0.9,
  auto_pause: false,
  channels: [way],
  report_every: '',
  report_to: [],
};
const told: Schemas['Notification'] = {
  id: 1,
  channel: 'Isla',
  title: 'New: 2 SPF records',
  what: 'opened',
  state: 'dead',
  attempts: 9,
  response: '550 no such mailbox',
  made_at: '2026-11-20T08:00:00Z',
  next_at: null,
  finished_at: null,
};
const pause: Schemas['StreamPause'] = {
  stream: 'newsletter',
  relay: 'driftline',
  since: '2026-11-20T08:00:00Z',
  why: 'bounces at 6.10 %',
  by: '',
};
const served = (more: Record<string, unknown> = {}) =>
  serviceWith({
    [`GET ${T}/alert-settings`]: () => kept,
    [`PUT ${T}/alert-settings`]: (sent: Sent) => sent.body,
    [`GET ${T}/notifications`]: () => onePage([told]),
    [`GET ${T}/stream-pauses`]: () => onePage([pause]),
    ...more,
  });
withBrowserParts();
const put = (seen: Sent[]) =>
  seen.filter((each) => each.method === 'PUT').map((each) => each.body as Schemas['AlertSettings']);

describe('alerts', () => {
  it('show each channel with its level and quiet hours, and the notifications that were given up', async () => {
    served();
    open(<AlertsCard tenant="glasswort" />);
    const channels = within(await screen.findByRole('table', {name: 'Alert channels'}));
    expect(channels.getByText('Fix and above')).toBeTruthy();
    expect(channels.getByText('22:00 to 06:00')).toBeTruthy();
    expect(await screen.findByText('failed')).toBeTruthy();
    expect(screen.getByText('550 no such mailbox')).toBeTruthy();
  });

  it('are kept as they are typed, per cent as a share', async () => {
    const seen = served();
    open(<AlertsCard tenant="glasswort" />);
    const wait = await screen.findByRole('textbox', {name: 'Delay before the first notification, minutes'});
    await userEvent.clear(wait);
    await userEvent.type(wait, '30');
    const sure = screen.getByRole('textbox', {name: /Confidence for crossed lines/});
    await userEvent.clear(sure);
    await userEvent.type(sure, '95');
    await userEvent.type(
      screen.getByRole('textbox', {name: 'Report recipients'}),
      'boss@skerry.example, isla@skerry.example',
    );
    await userEvent.click(screen.getByRole('button', {name: 'Save'}));
    expect(put(seen)[0]).toMatchObject({
      wait_minutes: 30,
      confidence: 0.95,
      report_to: ['boss@skerry.example', 'isla@skerry.example'],
      channels: [way],
    });
  });

  it('take a way away and add one', async () => {
    const seen = served();
    open(<AlertsCard tenant="glasswort" />);
    await userEvent.click(await screen.findByRole('button', {name: 'Delete'}));
    await userEvent.click(within(screen.getByRole('alertdialog')).getByRole('button', {name: 'Delete'}));
    expect(put(seen)[0]!.channels).toEqual([]);
    await userEvent.click(screen.getByRole('button', {name: 'Add a channel'}));
    const add = screen.getByRole('button', {name: 'Add'});
    expect(add).toHaveProperty('disabled', true);
    await userEvent.type(screen.getByRole('textbox', {name: 'Name'}), 'Bram');
    await userEvent.type(
      screen.getByRole('textbox', {name: 'Email addresses'}),
      'bram@skerry.example desk@skerry.example',
    );
    await userEvent.click(add);
    expect(put(seen)[1]!.channels!.at(-1)).toMatchObject({
      name: 'Bram',
      kind: 'mail',
      to: ['bram@skerry.example', 'desk@skerry.example'],
      url: '',
    });
  });

  it('say which of their values was refused', async () => {
    served({
      [`PUT ${T}/alert-settings`]: () =>
        problem(422, 'It cannot be taken', {detail: 'channels.0.url: 10.0.0.1 may not be called'}),
    });
    open(<AlertsCard tenant="glasswort" />);
    await userEvent.click(await screen.findByRole('button', {name: 'Save'}));
    expect(await screen.findByText(/10\.0\.0\.1 may not be called/)).toBeTruthy();
  });
});

describe('pauses', () => {
  it('are released and put on with a reason only', async () => {
    const seen = served({
      [`POST ${T}/stream-pauses`]: () => onePage([pause]),
      [`POST ${T}/stream-pauses/resume`]: () => onePage([]),
    });
    open(<StreamPausesCard tenant="glasswort" />);
    const release = await screen.findByRole('button', {name: 'Resume'});
    expect(release).toHaveProperty('disabled', true);
    const hold = screen.getByRole('button', {name: 'Pause stream'});
    await userEvent.type(screen.getByRole('textbox', {name: 'Stream'}), 'receipts');
    expect(hold).toHaveProperty('disabled', true);
    await userEvent.type(screen.getByRole('textbox', {name: 'Reason'}), 'wrong prices');
    await userEvent.click(hold);
    await userEvent.type(screen.getByRole('textbox', {name: 'Reason'}), 'the list was cleaned');
    await userEvent.click(screen.getByRole('button', {name: 'Resume'}));
    expect(seen.filter((each) => each.method === 'POST').map((each) => each.body)).toEqual([
      {stream: 'receipts', relay: '', why: 'wrong prices'},
      {stream: 'newsletter', relay: 'driftline', why: 'the list was cleaned'},
    ]);
  });

  it('work by themselves only where a tenant wants that', async () => {
    const seen = served();
    open(<StreamPausesCard tenant="glasswort" />);
    await userEvent.click(await screen.findByRole('checkbox', {name: /Stop automatically/}));
    expect(put(seen)[0]!.auto_pause).toBe(true);
  });
});

describe('the parameters of readings', () => {
  const shown: Schemas['FactorShown'] = {
    name: 'complaints',
    unit: 'rate',
    watch: 0.001,
    stop: 0.003,
    weight: 60,
    half_life: 7,
    quick: 0.7,
    usual: 0.0002,
    worth: 1000,
    changed: ['stop'],
  };
  const view = {
    settings: {factors: {complaints: {stop: 0.003}}},
    factors: [shown],
    job: null,
    changed_at: null,
    changed_by: 'bram@skerry.example',
  };
  const job = {
    id: 4,
    kind: 'readings',
    title: '',
    state: 'done',
    done: 1,
    total: 1,
    result: {changes: [{name: 'd.example', before: 81, after: 62.5}]},
  };

  it('are typed in per cent, kept beside those set before, and show old beside new', async () => {
    const seen = serviceWith({
      [`GET ${T}/reading-settings`]: () => view,
      [`PUT ${T}/reading-settings`]: () => ({...view, job: 4}),
      [`GET ${T}/jobs/4`]: () => job,
    });
    open(<FactorsCard tenant="glasswort" />);
    const watch = await screen.findByRole('textbox', {name: /Complaints, watch/i});
    expect(watch).toHaveProperty('value', '0.1');
    await userEvent.clear(watch);
    await userEvent.type(watch, '0,05');
    await userEvent.click(screen.getByRole('button', {name: 'Save and recompute'}));
    expect(seen.find((each) => each.method === 'PUT')!.body).toEqual({
      factors: {complaints: {stop: 0.003, watch: 0.0005}},
    });
    expect(await screen.findByText('62.5')).toBeTruthy();
    expect(screen.getByText('81.0')).toBeTruthy();
  });

  it('show what an upgrade did to each domain, with the reason', async () => {
    const changes = [
      {name: 'd.example', before: 81, after: 78.5},
      {name: 'new.example', before: null, after: 99},
    ];
    const last_change = {why: 'arithmetic', at: '2026-12-01T09:00:00Z', changes};
    serviceWith({[`GET ${T}/reading-settings`]: () => ({...view, last_change})});
    open(<FactorsCard tenant="glasswort" />);
    expect(await screen.findByText(/an upgrade changed how readings are computed/)).toBeTruthy();
    const table = within(screen.getByRole('table', {name: 'Readings before and after'}));
    expect(table.getByText('−2.5')).toBeTruthy();
    expect(table.getByText('99.0')).toBeTruthy();
  });

  it.each(['', '-1', 'many'])('are not kept while one is "%s"', async (text) => {
    serviceWith({[`GET ${T}/reading-settings`]: () => view});
    open(<FactorsCard tenant="glasswort" />);
    const points = await screen.findByRole('textbox', {name: /Complaints, weight/i});
    await userEvent.clear(points);
    if (text) await userEvent.type(points, text);
    expect(screen.getByRole('button', {name: 'Save and recompute'})).toHaveProperty('disabled', true);
    expect(screen.getByRole('alert').textContent).toContain('0 or more');
    await userEvent.click(screen.getByRole('button', {name: 'Cancel'}));
    expect(points).toHaveProperty('value', '60');
  });

  it('go back to the defaults', async () => {
    const seen = serviceWith({
      [`GET ${T}/reading-settings`]: () => view,
      [`DELETE ${T}/reading-settings`]: () => ({...view, job: 5}),
      [`GET ${T}/jobs/5`]: () => ({...job, id: 5, state: 'failed', error: 'It was stopped by hand.'}),
    });
    open(<FactorsCard tenant="glasswort" />);
    await userEvent.click(await screen.findByRole('button', {name: 'Restore defaults'}));
    await userEvent.click(within(screen.getByRole('alertdialog')).getByRole('button', {name: 'Restore'}));
    expect(await screen.findByText('It was stopped by hand.')).toBeTruthy();
    expect(seen.some((each) => each.method === 'DELETE')).toBe(true);
  });
});
