// Outside verifiers: what was spent and saved, records, disagreements, new recipients, and the form.
import {cleanup, fireEvent, screen, waitFor, within} from '@testing-library/react';
import {afterEach, describe, expect, it} from 'vitest';
import type {Schemas} from '../../api/client';
import {open, problem, serviceWith, withBrowserParts} from '../../testing';
import {errorsOf, money, VerificationView} from './VerificationView';
import {headersOf, tableOf} from './VerifierForm';

const AT = '/api/v1/tenants/thornfield';
const line = (verdict: 'good' | 'bad', mailed: number, invalid: number): Schemas['VerdictRecord'] => ({
  verdict,
  given: 2 * mailed,
  mailed,
  invalid,
  share: mailed ? invalid / mailed : null,
  low: mailed ? 0.01 : null,
  high: mailed ? 0.05 : null,
});
const verifier: Schemas['Verifier'] = {
  name: 'pinmarsh',
  place: 1,
  enabled: true,
  request: {
    method: 'GET',
    url: 'https://pinmarsh.example/{address}',
    headers: [{name: 'Authorization', value: 'Bearer {secret}'}],
    body: null,
    at_once: 1,
  },
  answer: {
    unwrap: [],
    rows: '$',
    each: '',
    fields: {verdict: {path: '$.state', default: null, form: '', table: {open: 'good'}}},
  } as never,
  timeout: 10,
  price: 0.003,
  budget_day: 3,
  budget_month: null,
  spent_today: 1.5,
  spent_month: 4,
  asked_today: 500,
  failed_today: 0,
  problem: '',
  problem_at: null,
  answered_at: '2026-12-01T08:00:00Z',
  record: [line('good', 200, 4), line('bad', 0, 0)],
  created_at: '2026-11-10T08:00:00Z',
};
const settings: Schemas['VerificationSettings'] = {
  currency: 'EUR',
  reuse_days: 90,
  when_spent: 'own_checks',
  ask_next_if_unknown: false,
  cross_check: 0.05,
};
const all = {
  [`GET ${AT}/verifiers`]: {items: [verifier]},
  [`GET ${AT}/verification-settings`]: settings,
  [`GET ${AT}/verification-gauge`]: {
    first: '2026-11-25',
    last: '2026-12-01',
    currency: 'EUR',
    own: 60,
    reused: 40,
    paid: 500,
    unpaid: 7,
    spent: 1.5,
    saved: 0.3,
    days: [{day: '2026-12-01', own: 60, reused: 40, paid: 500, unpaid: 7, spent: 1.5, saved: 0.3}],
  },
  [`GET ${AT}/verification-disagreements`]: {
    items: [
      {
        address: 'ada.esk9@tidepost.example',
        verdicts: [],
        outcome: 'invalid',
        outcome_at: '2026-11-20T08:00:00Z',
        text: 'pinmarsh said good; mail bounced: no such address on 2026-11-20',
      },
    ],
  },
  [`GET ${AT}/new-recipients`]: {
    items: [
      {
        id: 2,
        address: 'b@tidepost.example',
        source: 'form',
        came_at: '2026-12-01T08:00:00Z',
        checked_at: null,
        verdict: null,
        check: null,
      },
    ],
  },
  [`GET ${AT}/recipient-sources`]: {
    items: [{name: 'form', key: 'new-abc', path: '$.email', created_at: '2026-12-01T08:00:00Z', last_at: null}],
  },
};

withBrowserParts();
afterEach(cleanup);

describe('verifiers', () => {
  it('say first what was spent and saved, then how often each was wrong', async () => {
    serviceWith(all);
    open(<VerificationView tenant="thornfield" />);
    expect(await screen.findByText('1.50 EUR spent on 500 checks, 0.30 EUR saved.')).toBeTruthy();
    const table = within(screen.getByRole('table', {name: 'Verifiers'}));
    expect(table.getByText('4 of 200 (1.0 % to 5.0 %)')).toBeTruthy();
    expect(table.getByText('no mail yet')).toBeTruthy();
    expect(table.getByRole('img', {name: '50 % of the budget'})).toBeTruthy();
    expect(await screen.findByText(/pinmarsh said good; mail bounced/)).toBeTruthy();
    expect(await screen.findByText('waits for its check')).toBeTruthy();
    expect(await screen.findByText(/new-recipients\/new-abc/)).toBeTruthy();
  });

  it('are tried with one address', async () => {
    serviceWith({
      ...all,
      [`POST ${AT}/verifiers/try`]: {
        answer: '{"state":"shut"}',
        verdict: 'bad',
        word: 'shut',
        detail: '',
        problem: '',
        remedy: '',
      },
    });
    open(<VerificationView tenant="thornfield" />);
    fireEvent.click(await screen.findByRole('button', {name: 'Edit pinmarsh'}));
    fireEvent.change(screen.getByLabelText('Address to check'), {target: {value: 'x@d.example'}});
    fireEvent.click(screen.getByRole('button', {name: 'Try'}));
    expect(await screen.findByText('{"state":"shut"}')).toBeTruthy();
  });

  it('are described in a form whose body has to be JSON', async () => {
    serviceWith({...all, [`PATCH ${AT}/verifiers/pinmarsh`]: verifier});
    open(<VerificationView tenant="thornfield" />);
    fireEvent.click(await screen.findByRole('button', {name: 'Edit pinmarsh'}));
    expect(screen.getByLabelText<HTMLTextAreaElement>('Verdicts by word').value).toBe('open=good');
    fireEvent.change(screen.getByLabelText('Price, EUR'), {target: {value: '0.004'}});
    fireEvent.click(screen.getByRole('button', {name: 'Save'}));
    await waitFor(() => expect(screen.queryByLabelText('Verdicts by word')).toBeNull());
  });

  it('have an explanation where there are none', async () => {
    serviceWith({...all, [`GET ${AT}/verifiers`]: {items: []}});
    open(<VerificationView tenant="thornfield" />);
    expect(await screen.findByText('No verifiers yet')).toBeTruthy();
    expect(screen.queryByText('Spent and saved')).toBeNull();
  });

  it('say what went wrong', async () => {
    serviceWith({...all, [`GET ${AT}/verifiers`]: () => problem(403, 'Your role does not allow this')});
    open(<VerificationView tenant="thornfield" />);
    expect(await screen.findByText(/does not allow this/)).toBeTruthy();
  });

  it('read words, header fields and amounts as people write them', () => {
    expect(tableOf('open=Good\n closed = bad\nodd')).toEqual({open: 'good', closed: 'bad'});
    expect(tableOf('')).toBeNull();
    expect(headersOf('Authorization: Bearer {secret}\nnonsense\nX-Key:a:b')).toEqual([
      {name: 'Authorization', value: 'Bearer {secret}'},
      {name: 'X-Key', value: 'a:b'},
    ]);
    expect(money(0.003, 'EUR')).toBe('0.0030 EUR');
    expect(money(12, 'EUR')).toBe('12.00 EUR');
    expect(errorsOf(verifier, 'good').text).toContain('4 of 200');
  });
});
