/** One's own account: password, second factor, sessions. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {
  useAddPasskey,
  useCheckSecondFactor,
  useConfirmSecondFactor,
  useDeletePasskey,
  useEndOthers,
  useEndSession,
  useIdentities,
  useNewCodes,
  useNewPassword,
  usePasskeys,
  useRemoveSecondFactor,
  useSecondFactor,
  useSessions,
  useStartSecondFactor,
  useUnlink,
} from './queries';
import {PreferencesCard} from './PreferencesCard';
import {passkeysWorkHere} from '../session/passkeys';
import {issuerAddress, useSession, useSignInOptions} from '../session/queries';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {Confirm} from '../../design/Confirm';
import {CopyButton} from '../../design/CopyButton';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {ago, inZone, plural, time} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {font, space} from '../../design/tokens';

const Stacked = styled.div`
  display: grid;
  gap: ${space.l};
`;
const Codes = styled.pre`
  font: 13px/1.6 ${font.mono};
  columns: 2;
  margin: 0;
`;

export const AccountCards = () => (
  <Stacked>
    <PreferencesCard />
    <SecondFactorCard />
    <PasskeysCard />
    <IdentitiesCard />
    <PasswordCard />
    <SessionsCard />
  </Stacked>
);

function PasswordCard() {
  const change = useNewPassword();
  const [current, setCurrent] = useState('');
  const [next, setNext] = useState('');
  const [tokens, setTokens] = useState<'keep' | 'delete'>('keep');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    change.mutate(
      {current, new: next, tokens},
      {
        onSuccess: () => {
          setCurrent('');
          setNext('');
        },
      },
    );
  };
  return (
    <Card title="Password" note="a new password ends all your other sessions">
      <FormGrid onSubmit={submit}>
        <Field
          label="Current password"
          type="password"
          autoComplete="current-password"
          value={current}
          onChange={setCurrent}
          isRequired
        />
        <Field
          label="New password"
          hint="10 to 256 characters that are not easy to guess"
          type="password"
          autoComplete="new-password"
          value={next}
          onChange={setNext}
          isRequired
        />
        <Choice
          label="Your API tokens"
          field
          value={tokens}
          options={[
            {value: 'keep', label: 'Leave valid'},
            {value: 'delete', label: 'Delete all'},
          ]}
          onChange={(value) => setTokens(value as 'keep' | 'delete')}
        />
        <footer>
          <Button type="submit" tone="main" isDisabled={change.isPending}>
            Change password
          </Button>
          {change.data && (
            <Small role="status">
              Changed. {plural(change.data.sessions_ended, 'session')} ended,{' '}
              {plural(change.data.tokens_deleted, 'token')} deleted.
            </Small>
          )}
        </footer>
      </FormGrid>
      {change.error && <Trouble error={change.error} />}
    </Card>
  );
}

function SecondFactorCard() {
  const state = useSecondFactor();
  const start = useStartSecondFactor();
  const confirm = useConfirmSecondFactor();
  const remove = useRemoveSecondFactor();
  const renew = useNewCodes();
  const check = useCheckSecondFactor();
  const session = useSession();
  const [code, setCode] = useState('');
  const [password, setPassword] = useState('');
  const shown = confirm.data ?? renew.data;
  const required = state.data?.required_by ?? [];
  return (
    <Card
      title="Second factor"
      note="a code of an authenticator app, in addition to the password"
      actions={
        state.data && (
          <span>
            <Tag level={state.data.enabled ? 'right' : 'note'}>{state.data.enabled ? 'on' : 'off'}</Tag>
          </span>
        )
      }
    >
      {state.isPending && <Loading what="your second factor" rows={1} />}
      {state.error && <Trouble error={state.error} />}
      {required.length > 0 && !state.data?.enabled && (
        <Notice title={`${required.join(', ')} requires a second factor`}>
          Set one up here, or add a passkey; you have access again as soon as it is confirmed.
        </Notice>
      )}
      {state.data?.enabled && session.data && !session.data.second_factor && session.data.locked.length > 0 && (
        <FormGrid
          onSubmit={(event) => {
            event.preventDefault();
            check.mutate(code, {onSuccess: () => setCode('')});
          }}
        >
          <Field
            label="Code that the app shows"
            hint={`${session.data.locked.map((each) => each.name).join(', ')} requires it in this session`}
            autoComplete="one-time-code"
            value={code}
            onChange={setCode}
            isRequired
          />
          <footer>
            <Button type="submit" tone="main" isDisabled={check.isPending}>
              Confirm
            </Button>
          </footer>
        </FormGrid>
      )}
      {shown && (
        <Notice title="Recovery codes: store them now, they are not shown again">
          <Codes>{shown.codes.join('\n')}</Codes>
          <span>Each replaces a code of the app once, for example when the device is lost.</span>
          <CopyButton value={shown.codes.join('\n')}>Copy</CopyButton>
        </Notice>
      )}
      {state.data && !state.data.enabled && !start.data && (
        <Button tone="main" onPress={() => start.mutate(undefined)} isDisabled={start.isPending}>
          Set up
        </Button>
      )}
      {state.data && !state.data.enabled && start.data && (
        <FormGrid
          onSubmit={(event) => {
            event.preventDefault();
            confirm.mutate(code, {onSuccess: () => setCode('')});
          }}
        >
          <div>
            <QrCode rows={start.data.qr} />
            <Small>
              Scan it with an authenticator app, or enter <code>{start.data.secret}</code>
            </Small>
          </div>
          <Field
            label="Code that the app shows"
            autoComplete="one-time-code"
            value={code}
            onChange={setCode}
            isRequired
          />
          <footer>
            <Button type="submit" tone="main" isDisabled={confirm.isPending}>
              Turn on
            </Button>
          </footer>
        </FormGrid>
      )}
      {state.data?.enabled && (
        <FormGrid
          onSubmit={(event) => {
            event.preventDefault();
            renew.mutate(code, {onSuccess: () => setCode('')});
          }}
        >
          <Field
            label="New recovery codes"
            hint={`${state.data.recovery_codes} are left. Enter a code of the app to replace them`}
            value={code}
            onChange={setCode}
            isRequired
          />
          <Field
            label="Turn off"
            hint="Enter your password"
            type="password"
            autoComplete="current-password"
            value={password}
            onChange={setPassword}
          />
          <footer>
            <Button type="submit" isDisabled={renew.isPending}>
              Replace recovery codes
            </Button>
            <Confirm
              label="Turn off"
              title="Turn off the second factor?"
              action="Turn off"
              isDisabled={!password}
              onConfirm={() => remove.mutate(password, {onSuccess: () => setPassword('')})}
            >
              Your password alone opens the account then.
            </Confirm>
          </footer>
        </FormGrid>
      )}
      {[start, confirm, renew, remove, check].map((each, i) => each.error && <Trouble key={i} error={each.error} />)}
    </Card>
  );
}

function PasskeysCard() {
  const passkeys = usePasskeys();
  const options = useSignInOptions();
  const add = useAddPasskey();
  const remove = useDeletePasskey();
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const origin = options.data?.passkey_origin ?? '';
  const submit = (event: FormEvent) => {
    event.preventDefault();
    add.mutate(
      {name: name.trim(), password},
      {
        onSuccess: () => {
          setName('');
          setPassword('');
        },
      },
    );
  };
  return (
    <Card title="Passkeys" note="sign in with your device; a passkey replaces password and code">
      {passkeys.isPending && <Loading what="passkeys" rows={1} />}
      {passkeys.error && <Trouble error={passkeys.error} />}
      {(passkeys.data?.length ?? 0) > 0 && (
        <DataTable
          label="Passkeys"
          columns={[
            {name: 'Name', value: (row: Schemas['Passkey']) => row.name},
            {name: inZone('Added'), value: (row) => row.created_at, show: (row) => time(row.created_at)},
            {
              name: 'Last used',
              value: (row) => row.last_used_at ?? '',
              show: (row) => (row.last_used_at ? ago(row.last_used_at) : 'never'),
            },
            {name: 'Synced', value: (row) => (row.synced ? 'yes' : 'no')},
            {
              name: '',
              value: () => '',
              tool: true,
              show: (row) => (
                <Confirm
                  label="Delete"
                  title={`Delete the passkey ${row.name}?`}
                  action="Delete"
                  onConfirm={() => remove.mutate(row.id)}
                >
                  Nobody can sign in with it any more.
                </Confirm>
              ),
            },
          ]}
          rows={passkeys.data ?? []}
          id={(row) => String(row.id)}
          file="passkeys.csv"
        />
      )}
      {passkeysWorkHere(origin) ? (
        <FormGrid onSubmit={submit} style={{marginTop: 16}}>
          <Field label="Name" hint="For example laptop or security key" value={name} onChange={setName} isRequired />
          <Field
            label="Your password"
            type="password"
            autoComplete="current-password"
            value={password}
            onChange={setPassword}
          />
          <footer>
            <Button type="submit" isDisabled={add.isPending}>
              Add passkey
            </Button>
          </footer>
        </FormGrid>
      ) : (
        options.data && (
          <Small>
            {origin
              ? `Passkeys work at ${origin} only. Open the console there to add one.`
              : 'Passkeys need public_url in the service settings: an https address with a name.'}
          </Small>
        )
      )}
      {[add, remove].map((each, i) => each.error && <Trouble key={i} error={each.error} />)}
    </Card>
  );
}

function IdentitiesCard() {
  const identities = useIdentities();
  const options = useSignInOptions();
  const unlink = useUnlink();
  const issuers = options.data?.issuers ?? [];
  const there = identities.data ?? [];
  if (issuers.length === 0 && there.length === 0) return null;
  return (
    <Card title="Linked accounts" note="sign in with an account that you have elsewhere">
      {identities.error && <Trouble error={identities.error} />}
      {there.length > 0 && (
        <DataTable
          label="Linked accounts"
          columns={[
            {name: 'Issuer', value: (row: Schemas['Identity']) => row.title},
            {name: 'Account', value: (row) => row.email},
            {name: inZone('Linked'), value: (row) => row.created_at, show: (row) => time(row.created_at)},
            {
              name: 'Last used',
              value: (row) => row.last_used_at ?? '',
              show: (row) => (row.last_used_at ? ago(row.last_used_at) : 'never'),
            },
            {
              name: '',
              value: () => '',
              tool: true,
              show: (row) => (
                <Button tone="link" onPress={() => unlink.mutate(row.id)}>
                  Unlink
                </Button>
              ),
            },
          ]}
          rows={there}
          id={(row) => String(row.id)}
          file="linked-accounts.csv"
        />
      )}
      <div style={{display: 'flex', gap: 8}}>
        {issuers.map((issuer) => (
          <Button
            key={issuer.name}
            onPress={() =>
              window.location.assign(
                issuerAddress(issuer.name, window.location.pathname + window.location.search, true),
              )
            }
          >
            Link an account of {issuer.title}
          </Button>
        ))}
      </div>
      {unlink.error && <Trouble error={unlink.error} />}
    </Card>
  );
}

/** Drawn from rows of 0 and 1, dark on white in either theme: that is what cameras read. */
function QrCode({rows}: {rows: string[]}) {
  const quiet = 4;
  const size = rows.length + 2 * quiet;
  const path = rows
    .flatMap((row, y) => [...row].map((cell, x) => (cell === '1' ? `M${x + quiet} ${y + quiet}h1v1h-1z` : '')))
    .join('');
  return (
    <svg width="180" height="180" viewBox={`0 0 ${size} ${size}`} role="img" aria-label="QR code of the secret">
      <rect width={size} height={size} fill="#fff" />
      <path d={path} fill="#000" shapeRendering="crispEdges" />
    </svg>
  );
}

function SessionsCard() {
  const sessions = useSessions();
  const end = useEndSession();
  const endOthers = useEndOthers();
  return (
    <Card
      title="Sessions"
      note="where you are signed in"
      actions={
        (sessions.data?.length ?? 0) > 1 && (
          <Button onPress={() => endOthers.mutate(undefined)} isDisabled={endOthers.isPending}>
            End all others
          </Button>
        )
      }
    >
      {sessions.isPending && <Loading what="sessions" />}
      {sessions.error && <Trouble error={sessions.error} />}
      {sessions.data && (
        <DataTable
          label="Sessions"
          columns={[
            {
              name: inZone('Opened'),
              value: (row: Schemas['SessionInfo']) => row.created_at,
              show: (row) => time(row.created_at),
            },
            {
              name: 'Last seen',
              value: (row) => row.last_seen_at ?? '',
              show: (row) => (row.last_seen_at ? ago(row.last_seen_at) : ''),
            },
            {name: 'From', value: (row) => row.address},
            {
              name: 'With',
              value: (row) => row.agent,
              show: (row) => <span title={row.agent}>{row.agent.slice(0, 40)}</span>,
            },
            {name: 'Second factor', value: (row) => (row.second_factor ? 'yes' : 'no')},
            {
              name: '',
              value: () => '',
              tool: true,
              show: (row) =>
                row.current ? (
                  <Soft>this session</Soft>
                ) : (
                  <Button tone="link" onPress={() => end.mutate(row.id)}>
                    End
                  </Button>
                ),
            },
          ]}
          rows={sessions.data}
          id={(row) => String(row.id)}
          file="sessions.csv"
        />
      )}
      {end.error && <Trouble error={end.error} />}
    </Card>
  );
}
