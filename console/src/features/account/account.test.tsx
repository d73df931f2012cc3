import {cleanup, screen, waitFor} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it, vi} from 'vitest';
import {AccountCards} from './AccountCards';
import {onePage, open, problem, serviceWith, withBrowserParts} from '../../testing';

withBrowserParts();
afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const session = {
  id: 1,
  created_at: '2026-11-20T12:00:00Z',
  expires_at: '2026-11-21T00:00:00Z',
  last_seen_at: '2026-11-20T12:00:00Z',
  address: '192.0.2.9',
  agent: 'browser',
  second_factor: false,
  current: true,
};
const who = {
  name: 'Isla',
  email: 'isla@skerry.example',
  tenants: [],
  locked: [{slug: 'glasswort', name: 'Glasswort Theatre', role: 'admin'}],
  is_owner: false,
  second_factor: false,
};
const account = (more: Parameters<typeof serviceWith>[0] = {}) =>
  serviceWith({
    'GET /api/v1/session': () => who,
    'GET /api/v1/session/options': () => ({passkey_origin: '', issuers: []}),
    'GET /api/v1/session/second-factor': () => ({enabled: false, recovery_codes: 0, required_by: []}),
    'GET /api/v1/sessions': () => onePage([session]),
    'GET /api/v1/passkeys': () => onePage([]),
    'GET /api/v1/identities': () => onePage([]),
    ...more,
  });

describe('one’s own account', () => {
  it('changes the password, and says what ended', async () => {
    const seen = account({'PUT /api/v1/session/password': () => ({sessions_ended: 2, tokens_deleted: 1})});
    open(<AccountCards />);
    await userEvent.type(await screen.findByLabelText('Current password'), 'correct horse battery');
    await userEvent.type(screen.getByLabelText('New password'), 'seven herons over slate');
    await userEvent.click(screen.getByRole('button', {name: 'Change password'}));
    await screen.findByText('Changed. 2 sessions ended, 1 token deleted.');
    expect(seen.find((call) => call.method === 'PUT')?.body).toEqual({
      current: 'correct horse battery',
      new: 'seven herons over slate',
      tokens: 'keep',
    });
    expect(screen.getByLabelText<HTMLInputElement>('Current password').value).toBe('');
  });
  it('shows why a password was not accepted', async () => {
    account({
      'PUT /api/v1/session/password': () => problem(422, 'Password not accepted', {detail: 'It is a common password'}),
    });
    open(<AccountCards />);
    await userEvent.type(await screen.findByLabelText('Current password'), 'correct horse battery');
    await userEvent.type(screen.getByLabelText('New password'), 'password12');
    await userEvent.click(screen.getByRole('button', {name: 'Change password'}));
    await screen.findByText(/It is a common password/);
    expect(screen.getByLabelText<HTMLInputElement>('New password').value).toBe('password12');
  });
  it('sets up one-time codes and shows the recovery codes once', async () => {
    account({
      'POST /api/v1/session/second-factor': () => ({secret: 'JBSWY3DP', uri: 'otpauth://totp/x', qr: ['10', '01']}),
      'PUT /api/v1/session/second-factor': () => ({codes: ['aaaa', 'bbbb']}),
    });
    open(<AccountCards />);
    await userEvent.click(await screen.findByRole('button', {name: 'Set up'}));
    await screen.findByText('JBSWY3DP');
    await userEvent.type(screen.getByLabelText('Code that the app shows'), '123456');
    await userEvent.click(screen.getByRole('button', {name: 'Turn on'}));
    await screen.findByText(/aaaa\s+bbbb/);
  });
  it('takes a code in a session that was opened without one', async () => {
    const seen = account({
      'GET /api/v1/session/second-factor': () => ({enabled: true, recovery_codes: 9, required_by: ['glasswort']}),
      'POST /api/v1/session/second-factor/check': () => undefined,
    });
    open(<AccountCards />);
    await userEvent.type(await screen.findByLabelText('Code that the app shows'), '123456');
    await userEvent.click(screen.getByRole('button', {name: 'Confirm'}));
    await waitFor(() => expect(seen.find((call) => call.method === 'POST')?.body).toEqual({code: '123456'}));
  });
  it('ends other sessions, never by accident the one that asks', async () => {
    const seen = account({
      'GET /api/v1/sessions': () => onePage([session, {...session, id: 2, current: false, agent: 'phone'}]),
      'DELETE /api/v1/sessions/2': () => undefined,
    });
    open(<AccountCards />);
    expect(await screen.findAllByRole('button', {name: 'End'})).toHaveLength(1);
    await userEvent.click(screen.getByRole('button', {name: 'End'}));
    await waitFor(() => expect(seen.some((call) => call.method === 'DELETE')).toBe(true));
  });
  it('says where passkeys work when they do not work here', async () => {
    account({'GET /api/v1/session/options': () => ({passkey_origin: 'https://gauge.example.test', issuers: []})});
    open(<AccountCards />);
    await screen.findByText(/Passkeys work at https:\/\/gauge.example.test only/);
    expect(screen.queryByRole('button', {name: 'Add passkey'})).toBeNull();
    cleanup();
    account();
    open(<AccountCards />);
    await screen.findByText(/Passkeys need public_url/);
  });
  it('adds a passkey with the password', async () => {
    vi.stubGlobal(
      'PublicKeyCredential',
      class {
        static parseCreationOptionsFromJSON = (options: object) => options;
        toJSON = () => ({id: 'abc'});
      },
    );
    const create = vi.fn(() => Promise.resolve(new PublicKeyCredential()));
    vi.stubGlobal('navigator', {...navigator, credentials: {create}});
    const seen = account({
      'GET /api/v1/session/options': () => ({passkey_origin: window.location.origin, issuers: []}),
      'POST /api/v1/passkeys/options': () => ({options: {challenge: 'c'}}),
      'POST /api/v1/passkeys': () => ({id: 1, name: 'laptop', synced: false, created_at: '2026-11-20T12:00:00Z'}),
    });
    open(<AccountCards />);
    await userEvent.type(await screen.findByLabelText('Name'), 'laptop');
    await userEvent.type(screen.getByLabelText('Your password'), 'correct horse battery');
    await userEvent.click(screen.getByRole('button', {name: 'Add passkey'}));
    await waitFor(() =>
      expect(seen.filter((call) => call.method === 'POST').map((call) => call.body)).toEqual([
        {password: 'correct horse battery'},
        {name: 'laptop', credential: {id: 'abc'}},
      ]),
    );
    expect(create).toHaveBeenCalledWith({publicKey: {challenge: 'c'}});
  });
  it('links and unlinks accounts at issuers', async () => {
    const seen = account({
      'GET /api/v1/session/options': () => ({passkey_origin: '', issuers: [{name: 'office', title: 'Skerry ID'}]}),
      'GET /api/v1/identities': () =>
        onePage([
          {id: 4, issuer: 'office', title: 'Skerry ID', email: 'i@skerry.example', created_at: '2026-11-20T12:00:00Z'},
        ]),
      'DELETE /api/v1/identities/4': () => undefined,
    });
    open(<AccountCards />);
    await userEvent.click(await screen.findByRole('button', {name: 'Unlink'}));
    await waitFor(() => expect(seen.some((call) => call.method === 'DELETE')).toBe(true));
    screen.getByRole('button', {name: 'Link an account of Skerry ID'});
  });
});
