import {useEffect, useState} from 'react';
import {cleanup, screen, within} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it} from 'vitest';
import type {Schemas} from '../../api/client';
import {open, serviceWith, who, withBrowserParts} from '../../testing';
import {DoneRegion} from '../../design/Done';
import {does, when} from './policy';
import {PolicyEditor} from './PolicyEditor';
import {reasonsOf} from './BeforeView';
import {SuppressionPage} from './SuppressionPage';

withBrowserParts();
afterEach(cleanup);

const T = '/api/v1/tenants/copperline';
const entry = (changes = {}) => ({
  id: 'abc.2.1.0',
  address: 'kim@tidepost.example',
  address_key: '00',
  reason: 'complaint',
  scope: 'tenant',
  scope_name: '',
  state: 'held',
  since: '2026-11-20T10:00:00Z',
  until: null,
  ended_at: null,
  made_at: '2026-11-20T10:00:00Z',
  made_by: 'event',
  origin: 'event',
  change: 'made',
  changed_at: '2026-11-20T10:00:00Z',
  note: '',
  provider: 'Tidepost',
  stream: 'newsletter',
  times: 1,
  returns: 0,
  evidence: [],
  ...changes,
});
const part = {name: 'complaint', label: 'complaint', added: 3, removed: 1, active: 2, withheld: 4, days: [0, 2]};
const growth = {
  first: '2026-11-19',
  last: '2026-11-20',
  days: [
    {day: '2026-11-19', added: 0, removed: 0, active: 0, withheld: 0},
    {day: '2026-11-20', added: 3, removed: 1, active: 2, withheld: 4},
  ],
  reasons: [part],
  providers: [],
  streams: [],
  saved: {
    sent: 100,
    bounced: 2,
    complained: 0,
    withheld: 4,
    withheld_bad: 4,
    bounce_rate: 0.02,
    bounce_rate_without: 0.0577,
  },
};
const base = {
  [`GET ${T}/suppression`]: () => ({items: [entry()], next: null}),
  [`GET ${T}/suppression/count`]: () => ({count: 2, more: false}),
  [`GET ${T}/suppression/growth`]: () => growth,
  [`GET ${T}/suppression/status`]: () => ({
    address: 'kim@tidepost.example',
    verdict: 'held',
    why: 'the recipient reported your mail as spam',
    entries: [entry()],
    history: [],
  }),
};

describe('the suppression page', () => {
  it('says first how many are held, what moved and what was spared', async () => {
    serviceWith(base);
    open(<SuppressionPage who={who} />);
    expect(await screen.findByText('2 addresses held.')).toBeTruthy();
    expect(screen.getByText(/without withholding it would be 5.8 %/)).toBeTruthy();
    expect(screen.getByText('2 proposals to review.')).toBeTruthy();
  });

  it('removes a complaint only after a confirmation', async () => {
    const seen = serviceWith({...base, [`POST ${T}/suppression/lifts`]: () => ({entries: []})});
    open(<SuppressionPage who={who} />);
    const table = await screen.findByRole('table', {name: 'Suppression list'});
    await userEvent.click(within(table).getByRole('button', {name: 'kim@tidepost.example'}));
    await userEvent.type(await screen.findByLabelText('Reason for lifting'), 'they wrote to us');
    const lift = screen.getByRole('button', {name: /^Lift/});
    expect(lift.hasAttribute('disabled')).toBe(true);
    await userEvent.click(screen.getByRole('checkbox', {name: /opted in again/}));
    await userEvent.click(lift);
    expect(seen.find((each) => each.path.endsWith('/lifts'))!.body).toEqual({
      ids: ['abc.2.1.0'],
      address: '',
      why: 'they wrote to us',
      despite_complaint: true,
    });
  });

  it('lifts several at once, and suppresses them again when that is undone', async () => {
    const rows = [
      entry({id: 'a.1', address: 'ann@tidepost.example', reason: 'manual'}),
      entry({id: 'b.1', address: 'ben@tidepost.example', reason: 'manual'}),
    ];
    const seen = serviceWith({
      ...base,
      [`GET ${T}/suppression`]: () => ({items: rows, next: null}),
      [`POST ${T}/suppression/lifts`]: () => ({entries: rows}),
      [`POST ${T}/suppression`]: () => ({changed: 2, standing: 0, rejected: []}),
    });
    open(
      <DoneRegion>
        <SuppressionPage who={who} />
      </DoneRegion>,
    );
    await userEvent.click(await screen.findByRole('checkbox', {name: 'Select all rows of Suppression list'}));
    await userEvent.type(screen.getByLabelText('Reason for lifting'), 'box office, ticket 812');
    await userEvent.click(screen.getByRole('button', {name: 'Lift 2'}));
    expect(await screen.findByText('2 entries lifted.')).toBeTruthy();
    await userEvent.click(screen.getByRole('button', {name: 'Undo'}));
    expect(await screen.findByText('2 of 2 suppressed again.')).toBeTruthy();
    const again = seen.find((each) => each.method === 'POST' && each.path.endsWith('/suppression'))!;
    expect(again.body).toMatchObject({addresses: ['ann@tidepost.example', 'ben@tidepost.example'], reason: 'manual'});
  });

  it('says what to do where nothing answers to a search', async () => {
    serviceWith({...base, [`GET ${T}/suppression`]: () => ({items: [], next: null})});
    open(<SuppressionPage who={who} />);
    expect(await screen.findByText('The list is empty')).toBeTruthy();
    await userEvent.type(screen.getByLabelText('Address begins with, or @domain'), 'x');
    expect(await screen.findByText('No matching entries')).toBeTruthy();
  });
});

describe('a rule of the policy', () => {
  const rule = (changes: Partial<Schemas['PolicyRule']>): Schemas['PolicyRule'] => ({
    name: 'r',
    act: 'hold',
    kinds: ['bounced'],
    causes: [],
    permanence: '',
    streams: [],
    providers: [],
    reason: 'invalid_address',
    scope: 'tenant',
    whole_domain: false,
    times: 1,
    over_days: 0,
    within_days: 60,
    for_days: null,
    longer: 1,
    longest_days: 365,
    ends_with_delivery: false,
    wait_hours: [],
    ...changes,
  });

  it.each([
    [rule({}), 'suppresses the address immediately until removed'],
    [rule({act: 'nothing'}), 'does nothing'],
    [rule({act: 'wait', wait_hours: [4, 24]}), 'advises when to retry'],
    [
      rule({whole_domain: true, for_days: 30, longer: 3, ends_with_delivery: true}),
      'suppresses the whole domain immediately for 30 days, 3 times as long after each return; a delivery ends it',
    ],
    [
      rule({act: 'propose', times: 3, over_days: 7, for_days: 14, scope: 'stream'}),
      'proposes the address after 3 messages over 7 days with no delivery between them, for 14 days, for the stream only',
    ],
  ])('is described in words (%#)', (each, said) => expect(does(each)).toBe(said));

  it('says when it acts', () => {
    expect(when(rule({causes: ['mailbox_full'], permanence: 'transient', streams: ['news']}))).toBe(
      'bounced: mailbox full, transient on news',
    );
  });
});

describe('the policy as a form', () => {
  const rule: Schemas['PolicyRule'] = {
    name: 'gone',
    act: 'hold',
    kinds: ['bounced'],
    causes: ['no_such_mailbox'],
    permanence: '',
    streams: [],
    providers: [],
    reason: 'invalid_address',
    scope: 'tenant',
    whole_domain: false,
    times: 1,
    over_days: 0,
    within_days: 60,
    for_days: null,
    longer: 1,
    longest_days: 365,
    ends_with_delivery: false,
    wait_hours: [],
  };
  const policy: Schemas['SuppressionPolicy'] = {
    rules: [rule, {...rule, name: 'complained', kinds: ['complained'], causes: []}],
    proposals: {no_life_sends: 12, no_life_days: 120, role_addresses: true, revived_after_days: 180},
  };
  function Edited({onDone}: {onDone: (policy: Schemas['SuppressionPolicy']) => void}) {
    const [now, setNow] = useState(policy);
    useEffect(() => onDone(now), [now, onDone]);
    return <PolicyEditor policy={now} onChange={setNow} />;
  }

  it('edits, reorders and deletes rules, and keeps what is not touched', async () => {
    let now = policy;
    const onDone = (changed: Schemas['SuppressionPolicy']) => {
      now = changed;
    };
    open(<Edited onDone={onDone} />);
    await userEvent.click(await screen.findByRole('button', {name: 'Edit gone'}));
    await userEvent.clear(screen.getByLabelText('After, messages'));
    await userEvent.type(screen.getByLabelText('After, messages'), '3');
    await userEvent.type(screen.getByLabelText('Ends after, days'), '30');
    await userEvent.type(screen.getByLabelText('Streams'), 'news, offers');
    await userEvent.click(screen.getByRole('button', {name: /Remove.*No such mailbox/}));
    expect(now.rules[0]).toEqual({...rule, times: 3, for_days: 30, streams: ['news', 'offers'], causes: []});
    await userEvent.click(screen.getByRole('button', {name: 'Move complained up'}));
    expect(now.rules.map((each) => each.name)).toEqual(['complained', 'gone']);
    await userEvent.click(screen.getByRole('button', {name: 'Delete gone'}));
    expect(now.rules).toEqual([policy.rules[1]]);
    expect(now.proposals).toEqual(policy.proposals);
  });
});

describe('a checked list', () => {
  it('adds up a reason that held some rows and left others in doubt', () => {
    expect(reasonsOf({verifier: 55, bounced: 15}, {verifier: 100})).toEqual([
      ['verifier', 155],
      ['bounced', 15],
    ]);
    expect(reasonsOf()).toEqual([]);
  });
});
