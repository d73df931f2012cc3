import {cleanup, screen, within} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it} from 'vitest';
import type {Schemas} from '../../api/client';
import {open, problem, serviceWith, type Sent} from '../../testing';
import {AlertsCard} from './AlertsCard';
import {ReadingsCard} from './ReadingsCard';

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
    [`GET ${T}/notifications`]: () => [told],
    [`GET ${T}/stream-pauses`]: () => [pause],
    ...more,
  });
const put = (seen: Sent[]) =>
  seen.filter((each) => each.method === 'PUT').map((each) => each.body as Schemas['AlertSettings']);

describe('alerts', () => {
  it('show each way with what it is told, its quiet hours, and what was given up', async () => {
    served();
    open(<AlertsCard tenant="glasswort" />);
    const channels = within(await screen.findByRole('table', {name: 'Ways to tell'}));
    expect(channels.getByText('what is to be mended, and worse')).toBeTruthy();
    expect(channels.getByText('22:00 to 06:00')).toBeTruthy();
    expect(await screen.findByText('given up')).toBeTruthy();
    expect(screen.getByText('550 no such mailbox')).toBeTruthy();
  });

  it('are kept as they are typed, per cent as a share', async () => {
    const seen = served();
    open(<AlertsCard tenant="glasswort" />);
    const wait = await screen.findByRole('textbox', {name: 'Wait before telling, minutes'});
    await userEvent.clear(wait);
    await userEvent.type(wait, '30');
    const sure = screen.getByRole('textbox', {name: /crossed when sure/});
    await userEvent.clear(sure);
    await userEvent.type(sure, '95');
    await userEvent.type(
      screen.getByRole('textbox', {name: 'A report goes to'}),
      'boss@skerry.example, isla@skerry.example',
    );
    await userEvent.click(screen.getByRole('button', {name: 'Keep these settings'}));
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
    await userEvent.click(await screen.findByRole('button', {name: 'Take away'}));
    expect(put(seen)[0]!.channels).toEqual([]);
    const add = screen.getByRole('button', {name: 'Add this way'});
    expect(add).toHaveProperty('disabled', true);
    await userEvent.type(screen.getByRole('textbox', {name: 'Name'}), 'Bram');
    await userEvent.type(screen.getByRole('textbox', {name: 'Addresses'}), 'bram@skerry.example desk@skerry.example');
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
    await userEvent.click(await screen.findByRole('button', {name: 'Keep these settings'}));
    expect(await screen.findByText(/10\.0\.0\.1 may not be called/)).toBeTruthy();
  });
});

describe('pauses', () => {
  it('are released and put on with a reason only', async () => {
    const seen = served({[`POST ${T}/stream-pauses`]: () => [pause], [`POST ${T}/stream-pauses/resume`]: () => []});
    open(<AlertsCard tenant="glasswort" />);
    const release = await screen.findByRole('button', {name: 'Release'});
    expect(release).toHaveProperty('disabled', true);
    const hold = screen.getByRole('button', {name: 'Hold this stream'});
    await userEvent.type(screen.getByRole('textbox', {name: 'Stream'}), 'receipts');
    expect(hold).toHaveProperty('disabled', true);
    await userEvent.type(screen.getByRole('textbox', {name: /Why/}), 'wrong prices');
    await userEvent.click(hold);
    await userEvent.type(screen.getByRole('textbox', {name: /Why/}), 'the list was cleaned');
    await userEvent.click(screen.getByRole('button', {name: 'Release'}));
    expect(seen.filter((each) => each.method === 'POST').map((each) => each.body)).toEqual([
      {stream: 'receipts', relay: '', why: 'wrong prices'},
      {stream: 'newsletter', relay: 'driftline', why: 'the list was cleaned'},
    ]);
  });

  it('work by themselves only where a tenant wants that', async () => {
    const seen = served();
    open(<AlertsCard tenant="glasswort" />);
    await userEvent.click(await screen.findByRole('button', {name: 'Pause by itself at a stop line'}));
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
    open(<ReadingsCard tenant="glasswort" />);
    const watch = await screen.findByRole('textbox', {name: /Complaints, watch/i});
    expect(watch).toHaveProperty('value', '0.1');
    await userEvent.clear(watch);
    await userEvent.type(watch, '0,05');
    await userEvent.click(screen.getByRole('button', {name: 'Keep, and compute the past anew'}));
    expect(seen.find((each) => each.method === 'PUT')!.body).toEqual({
      factors: {complaints: {stop: 0.003, watch: 0.0005}},
    });
    expect(await screen.findByText('62.5')).toBeTruthy();
    expect(screen.getByText('81.0')).toBeTruthy();
  });

  it.each(['', '-1', 'many'])('are not kept while one is "%s"', async (text) => {
    serviceWith({[`GET ${T}/reading-settings`]: () => view});
    open(<ReadingsCard tenant="glasswort" />);
    const points = await screen.findByRole('textbox', {name: /Complaints, weight/i});
    await userEvent.clear(points);
    if (text) await userEvent.type(points, text);
    expect(screen.getByRole('button', {name: 'Keep, and compute the past anew'})).toHaveProperty('disabled', true);
    expect(screen.getByRole('alert').textContent).toContain('from 0 up');
    await userEvent.click(screen.getByRole('button', {name: 'Leave it as it was'}));
    expect(points).toHaveProperty('value', '60');
  });

  it('go back to those shipped', async () => {
    const seen = serviceWith({
      [`GET ${T}/reading-settings`]: () => view,
      [`DELETE ${T}/reading-settings`]: () => ({...view, job: 5}),
      [`GET ${T}/jobs/5`]: () => ({...job, id: 5, state: 'failed', error: 'It was stopped by hand.'}),
    });
    open(<ReadingsCard tenant="glasswort" />);
    await userEvent.click(await screen.findByRole('button', {name: 'Back to those shipped'}));
    expect(await screen.findByText('It was stopped by hand.')).toBeTruthy();
    expect(seen.some((each) => each.method === 'DELETE')).toBe(true);
  });
});
