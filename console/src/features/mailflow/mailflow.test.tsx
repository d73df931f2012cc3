import {fromDraft, read, shown, toDraft} from './MappingForm';
import {cleanup, screen} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it} from 'vitest';
import type {Schemas} from '../../api/client';
import {onePage, open, serviceWith, who, withBrowserParts} from '../../testing';
import {FlowPage, partOptions, whichOf} from './FlowPage';
import {seconds} from './ProvidersTable';
import {searchOf} from './TrailsView';

withBrowserParts();
afterEach(cleanup);

const T = '/api/v1/tenants/copperline';
const base = {
  [`GET ${T}/domains`]: () => ({items: [], next: null}),
  [`GET ${T}/flow/names`]: () => ({streams: ['news'], relays: ['driftline'], ips: [], campaigns: ['a', 'b'], tags: []}),
};
const event = (more: Partial<Schemas['Event']> = {}): Schemas['Event'] => ({
  kind: 'bounced',
  time: '2026-11-20T08:00:00Z',
  arrived_at: '2026-11-20T08:00:01Z',
  domain: 'd.example',
  recipient: 'kim@tidepost.example',
  provider: 'tidepost.example',
  stream: 'news',
  relay: 'driftline',
  message_id: 'm1@d.example',
  reply_code: 550,
  enhanced_code: '5.1.1',
  diagnostic: '550 5.1.1 no such mailbox',
  cause: 'no_such_mailbox',
  permanence: 'permanent',
  cause_rule: 'rule:no-mailbox',
  remote_host: '',
  sending_ip: '',
  campaign: '',
  tags: [],
  attempt: 1,
  seconds_taken: null,
  sender_lacks: '',
  ...more,
});
const feed = (more: Partial<Schemas['Feed']> = {}): Schemas['Feed'] => ({
  name: 'driftline',
  kind: 'http',
  source: {
    addresses: [],
    path: '',
    host: '',
    port: null,
    tls: true,
    user: '',
    folder: 'INBOX',
    queue: '',
    virtual_host: '/',
  },
  mapping: null,
  defaults: {domain: '', stream: '', tray: '', relay: ''},
  paused: false,
  key: 'abc',
  position: '',
  created_at: '2026-11-20T08:00:00Z',
  last_arrival_at: null,
  last_event_at: null,
  usual_lag: null,
  lag: null,
  stored_today: 12,
  rejected: 1,
  error: '',
  summary: 'last event 4 min ago',
  ...more,
});

describe('parts of the mail', () => {
  it('are chosen by one word', () => {
    expect(
      partOptions({streams: ['news'], relays: [], ips: [], campaigns: ['a=b'], tags: []}).map((each) => each.value),
    ).toEqual(['stream=news', 'campaign=a=b']);
    expect(whichOf('d.example', 'campaign=a=b')).toEqual({domain: 'd.example', campaign: 'a=b'});
    expect(whichOf('', '')).toEqual({domain: undefined});
  });

  it('say times as people do', () => {
    expect([seconds(null), seconds(2.34), seconds(45), seconds(600), seconds(7200)]).toEqual([
      '',
      '2.3 s',
      '45 s',
      '10 min',
      '2.0 h',
    ]);
  });
});

describe('trails', () => {
  it('look for an address, a message or words', () => {
    expect(searchOf(' kim@tidepost.example ')).toEqual({recipient: 'kim@tidepost.example'});
    expect(searchOf('<a1@d.example>')).toEqual({message_id: 'a1@d.example'});
    expect(searchOf('no such mailbox')).toEqual({reply: 'no such mailbox'});
    expect(searchOf('')).toEqual({});
  });

  it('show the raw reply with its cause and meaning', async () => {
    const seen = serviceWith({...base, [`GET ${T}/events`]: () => ({items: [event()], next: null})});
    open(<FlowPage who={who} />, '/?view=trails&find=kim%40tidepost.example');
    expect(await screen.findByText('550 5.1.1 no such mailbox')).toBeTruthy();
    expect(screen.getByText('failed permanently')).toBeTruthy();
    expect(screen.getByText(/by rule:no-mailbox/)).toBeTruthy();
    expect(seen.find((each) => each.path.endsWith('/events'))!.query.get('recipient')).toBe('kim@tidepost.example');
  });
});

describe('causes', () => {
  it('mark what is new, and what no rule knows', async () => {
    serviceWith({
      ...base,
      [`GET ${T}/flow/causes`]: () => ({
        first_day: '2026-11-14',
        last_day: '2026-11-20',
        rows: [
          {
            provider: 'tidepost.example',
            label: 'Tidepost',
            cause: 'mailbox_full',
            bounced: 4,
            delayed: 2,
            before: 0,
            is_new: true,
            days: [0, 6],
            example: '452 full',
          },
        ],
      }),
      [`GET ${T}/reply-patterns`]: () =>
        onePage([
          {
            id: 1,
            pattern: '550 harbour closed #',
            example: 'x',
            cause: 'unclassified',
            count: 9,
            providers: ['Tidepost'],
            first_seen_at: '2026-11-20T08:00:00Z',
          },
        ]),
    });
    open(<FlowPage who={who} />, '/?view=causes');
    expect(await screen.findByText('452 full')).toBeTruthy();
    expect(screen.getByText('new')).toBeTruthy();
    expect(screen.getByText('no rule matches')).toBeTruthy();
  });
});

describe('comparison', () => {
  it('says when nobody can tell', async () => {
    const rate = {value: 0.01, low: 0.005, high: 0.02, count: 4, total: 400};
    serviceWith({
      ...base,
      [`GET ${T}/flow/comparison`]: () => ({
        first_day: '2026-11-14',
        last_day: '2026-11-20',
        first: 'a',
        second: 'b',
        providers: {},
        rates: [
          {
            name: 'complaints',
            first: rate,
            second: rate,
            difference: 0,
            low: -0.01,
            high: 0.01,
            summary: 'not enough mail to tell',
          },
        ],
      }),
    });
    open(<FlowPage who={who} />, '/?view=compare&part=campaign%3Da&other=campaign%3Db');
    expect(await screen.findByText('not enough mail to tell')).toBeTruthy();
    expect(screen.getByText('-1.00 to +1.00')).toBeTruthy();
  });
});

describe('feeds', () => {
  it('open with secrets shown once', async () => {
    const seen = serviceWith({
      ...base,
      [`GET ${T}/feeds`]: () => onePage([]),
      [`POST ${T}/feeds`]: () => ({...feed(), token: 'rgf_x', secret: 'whsec_y'}),
    });
    open(<FlowPage who={who} />, '/?view=feeds');
    await userEvent.click((await screen.findAllByRole('button', {name: 'Add a feed'}))[0]!);
    await userEvent.type(screen.getByLabelText('Name'), 'driftline');
    await userEvent.click(screen.getByRole('button', {name: 'Add'}));
    expect(await screen.findByText('rgf_x')).toBeTruthy();
    expect(seen.find((each) => each.method === 'POST')!.body).toMatchObject({name: 'driftline', kind: 'http'});
    await userEvent.click(screen.getByRole('button', {name: 'Continue to the feed'}));
    expect(screen.queryByText('rgf_x')).toBeNull();
  });

  it('show what was refused, and try a mapping field by field', async () => {
    const seen = serviceWith({
      ...base,
      [`GET ${T}/feeds`]: () => onePage([feed()]),
      [`GET ${T}/feeds/driftline/rejected-rows`]: () => ({
        items: [
          {
            id: 4,
            arrived_at: '2026-11-20T08:00:00Z',
            item: '{"kind": "posted"}',
            problems: [{line: 1, field: 'kind', what: "'posted' is not a valid kind", remedy: ''}],
          },
        ],
        next: null,
      }),
      [`POST ${T}/feeds/driftline/rejected-rows/replay`]: () => ({tried: 1, stored: 1, duplicates: 0, rejected: 0}),
      [`POST ${T}/mapping-dry-runs`]: () => ({
        problem: '',
        remedy: '',
        rows: [
          {
            left_out: false,
            steps: [{field: 'kind', path: '$.event', found: 'back', value: 'bounced'}],
            event: {kind: 'bounced', cause: 'no_such_mailbox', permanence: 'permanent', cause_rule: 'rule:no-mailbox'},
            problems: [],
          },
        ],
      }),
      [`PATCH ${T}/feeds/driftline`]: () => feed(),
    });
    open(<FlowPage who={who} />, '/?view=feeds');
    await userEvent.click(await screen.findByRole('button', {name: 'Open'}));
    expect(await screen.findByText("kind: 'posted' is not a valid kind")).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'Retry'}));
    expect(await screen.findByText('1 stored, 0 rejected again')).toBeTruthy();
    await userEvent.click(screen.getByLabelText('Sample data from the source'));
    await userEvent.paste('{"event": "back"}');
    await userEvent.click(screen.getByRole('button', {name: 'Test mapping'}));
    expect(await screen.findByText('becomes "bounced"')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'Save mapping'}));
    expect(seen.some((each) => each.method === 'PATCH')).toBe(true);
  });

  it('take another source and password after they were opened', async () => {
    const box = feed({
      name: 'returns',
      kind: 'mailbox',
      rejected: 0,
      source: {...feed().source, host: 'mail.office.example', user: 'bounces', port: 993},
    });
    const seen = serviceWith({
      ...base,
      [`GET ${T}/feeds`]: () => onePage([box]),
      [`GET ${T}/feeds/returns/rejected-rows`]: () => ({items: [], next: null}),
      [`PATCH ${T}/feeds/returns`]: () => box,
    });
    open(<FlowPage who={who} />, '/?view=feeds');
    await userEvent.click(await screen.findByRole('button', {name: 'Open'}));
    await userEvent.click(screen.getByText('Source and defaults'));
    await userEvent.type(screen.getByLabelText('New password'), 'secret');
    await userEvent.type(screen.getByLabelText('Relay if the source names none'), 'driftline');
    await userEvent.click(screen.getByRole('button', {name: 'Save'}));
    expect(seen.find((each) => each.method === 'PATCH')!.body).toMatchObject({
      password: 'secret',
      defaults: {relay: 'driftline'},
      source: {host: 'mail.office.example', port: 993, user: 'bounces'},
    });
  });
});

describe('a mapping as a form', () => {
  const mapping: Schemas['FeedMapping'] = {
    unwrap: [{at: '$.body', form: 'base64-json'}],
    rows: '$.events',
    each: '$.recipients',
    fields: {
      kind: {
        path: '$.event',
        constant: null,
        default: null,
        form: '',
        table: {bounce: 'bounced', '5': null, open: 'opened'},
      },
      attempt: {path: '', constant: 1, default: '1', form: 'number', table: null},
      stream: {path: '', constant: 'true', default: '', form: '', table: null},
      tags: {path: '$.tags', constant: null, default: ['a', 'b'], form: '', table: null},
    },
  };
  it('reads back as it was', () => expect(fromDraft(toDraft(mapping))).toEqual(mapping));

  it.each(['', 'a', '12', 'true', 'null', '"', '[1', 7, 0, false, ['x'], {a: null}, ' padded '])(
    'keeps %j as a value',
    (value) => expect(read(shown(value))).toEqual(value),
  );
});
