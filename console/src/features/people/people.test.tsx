import {cleanup, screen, waitFor} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it} from 'vitest';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Confirm} from '../../design/Confirm';
import {HasRole, Needs, type Role} from '../../design/may';
import {onePage, open, problem, serviceWith, withBrowserParts} from '../../testing';
import {JoinPage} from '../session/JoinPage';
import {SignIn} from '../session/SignIn';
import {SettingsPage} from '../settings/SettingsPage';

withBrowserParts();
afterEach(cleanup);
const T = '/api/v1/tenants/glasswort';
const someone = (role: Role, more: Partial<Schemas['Who']> = {}): Schemas['Who'] => ({
  name: 'Isla',
  email: 'isla@skerry.example',
  tenants: [{slug: 'glasswort', name: 'Glasswort Theatre', role}],
  locked: [],
  is_owner: false,
  second_factor: false,
  ...more,
});
const members = [
  {email: 'isla@skerry.example', name: 'Isla', role: 'admin', second_factor: true},
  {email: 'ruan@skerry.example', name: 'Ruan', role: 'viewer', second_factor: false},
];
describe('what a role may not do', () => {
  it.each([
    ['viewer', []],
    ['operator', ['Save', 'Send']],
    ['admin', ['Save', 'Send', 'Delete']],
  ] as [Role, string[]][])('is not shown to a %s', (role, shown) => {
    open(
      <HasRole own={role}>
        <Needs least="operator">
          <Button>Close</Button>
          <Button tone="main">Save</Button>
          <Button changes>Send</Button>
          <Confirm label="Delete" title="Delete?" action="Delete" onConfirm={() => {}} needs="admin">
            It is gone.
          </Confirm>
        </Needs>
      </HasRole>,
    );
    expect(screen.getAllByRole('button').map((each) => each.textContent)).toEqual(['Close', ...shown]);
  });
  it('leaves out sections of settings', () => {
    serviceWith({
      [`GET ${T}/members`]: () => onePage(members),
      [`GET ${T}/settings`]: () => ({name: 'x', second_factor: false}),
    });
    open(<SettingsPage who={someone('viewer')} />, '/settings/members', '/settings/:section');
    const shown = screen.getAllByRole('link').map((each) => each.textContent);
    expect(shown).toContain('Your account');
    expect(shown).not.toContain('Audit log');
    expect(shown).not.toContain('Tenants');
    cleanup();
    open(<SettingsPage who={someone('admin', {is_owner: true})} />, '/settings/members', '/settings/:section');
    expect(screen.getAllByRole('link').map((each) => each.textContent)).toEqual(
      expect.arrayContaining(['Audit log', 'Tenants', 'People', 'Assignments']),
    );
  });
});

describe('members', () => {
  it('are invited; without a relay the link is shown to be passed on', async () => {
    const seen = serviceWith({
      [`GET ${T}/members`]: () => onePage(members),
      [`GET ${T}/settings`]: () => ({name: 'Glasswort Theatre', second_factor: false}),
      [`GET ${T}/invitations`]: () => onePage([]),
      [`POST ${T}/invitations`]: () => ({
        id: 1,
        email: 'new@skerry.example',
        role: 'viewer',
        invited_by: 'isla@skerry.example',
        sent: false,
        created_at: '2026-11-20T12:00:00Z',
        expires_at: '2026-11-27T12:00:00Z',
        link: 'http://localhost/join#abc',
        problem: 'No relay is configured',
      }),
    });
    open(<SettingsPage who={someone('admin')} />, '/settings/members', '/settings/:section');
    expect(await screen.findByText('ruan@skerry.example')).toBeTruthy();
    await userEvent.type(screen.getByLabelText('Email address'), 'new@skerry.example');
    await userEvent.click(screen.getByRole('button', {name: 'Invite'}));
    expect(await screen.findByText('http://localhost/join#abc')).toBeTruthy();
    expect(seen.find((each) => each.method === 'POST')?.body).toMatchObject({
      email: 'new@skerry.example',
      role: 'viewer',
    });
    await userEvent.click(screen.getAllByRole('button', {name: 'Remove'})[1]!);
    expect(await screen.findByText('Remove Ruan from this tenant?')).toBeTruthy();
  });
  it('see no buttons when they are not admins', async () => {
    serviceWith({
      [`GET ${T}/members`]: () => onePage(members),
      [`GET ${T}/settings`]: () => ({name: 'Glasswort Theatre', second_factor: true}),
    });
    open(<SettingsPage who={someone('operator')} />, '/settings/members', '/settings/:section');
    expect(await screen.findByText('ruan@skerry.example')).toBeTruthy();
    expect(screen.queryByRole('button', {name: 'Remove'})).toBeNull();
    expect(screen.queryByText('Invitations')).toBeNull();
  });
});

describe('signing in with a second factor', () => {
  it('asks for the code when the service does', async () => {
    let asked = 0;
    const seen = serviceWith({
      'POST /api/v1/session': () =>
        asked++ ? someone('admin') : problem(401, 'Code', {type: '/problems/code-required'}),
    });
    open(<SignIn />);
    await userEvent.type(screen.getByLabelText('Email address'), 'isla@skerry.example');
    await userEvent.type(screen.getByLabelText('Password'), 'correct horse');
    await userEvent.click(screen.getByRole('button', {name: 'Sign in'}));
    await userEvent.type(await screen.findByLabelText('Code'), '123456');
    expect(screen.queryByRole('alert')).toBeNull();
    await userEvent.click(screen.getByRole('button', {name: 'Sign in'}));
    await waitFor(() => expect(seen.at(-1)?.body).toMatchObject({code: '123456'}));
  });
});

describe('an invitation', () => {
  const view = {
    email: 'ruan@skerry.example',
    role: 'operator',
    tenant: 'glasswort',
    tenant_name: 'Glasswort Theatre',
    invited_by: 'isla@skerry.example',
    expires_at: '2026-11-27T12:00:00Z',
    has_account: false,
  };
  it('is accepted with a name and a password', async () => {
    const seen = serviceWith({
      'POST /api/v1/invitations/view': () => view,
      'POST /api/v1/invitations/acceptance': () => someone('operator'),
    });
    open(<JoinPage secret="secret-of-the-link" />);
    expect(await screen.findByText(/isla@skerry.example invites you to Glasswort Theatre as operator/)).toBeTruthy();
    await userEvent.type(screen.getByLabelText('Your name'), 'Ruan');
    await userEvent.type(screen.getByLabelText('New password'), 'seven herons over slate');
    await userEvent.click(screen.getByRole('button', {name: 'Create account'}));
    await waitFor(() =>
      expect(seen.at(-1)?.body).toMatchObject({secret: 'secret-of-the-link', name: 'Ruan', email: ''}),
    );
  });
  it('lets the first owner choose the address', async () => {
    serviceWith({'POST /api/v1/invitations/view': () => ({...view, email: '', role: 'owner', tenant_name: ''})});
    open(<JoinPage secret="secret-of-the-link" />);
    expect(await screen.findByText(/You will own this installation/)).toBeTruthy();
    expect((screen.getByLabelText('Email address') as HTMLInputElement).readOnly).toBe(false);
  });
  it('that was used says so', async () => {
    serviceWith({'POST /api/v1/invitations/view': () => problem(404, 'Not found')});
    open(<JoinPage secret="secret-of-the-link" />);
    expect(await screen.findByRole('alert')).toBeTruthy();
  });
});
