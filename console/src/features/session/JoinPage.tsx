/** Accepting an invitation. Its secret stands behind the # of the address, where no server and no log sees it. */
import {useState, type FormEvent} from 'react';
import {useNavigate} from 'react-router';
import {asksForCode, codeRequired, useAccept, useInvitation} from './queries';
import {DoorForm} from './SignIn';
import {Button} from '../../design/Button';
import {Field} from '../../design/Field';
import {Loading, Trouble} from '../../design/Notice';
import {time, zoneName} from '../../design/format';

export function JoinPage({secret}: {secret: string}) {
  const invitation = useInvitation(secret);
  const accept = useAccept();
  const navigate = useNavigate();
  const [email, setEmail] = useState('');
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const [code, setCode] = useState('');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    accept.mutate(
      {secret, email: email.trim(), name: name.trim(), password, code},
      {onSuccess: () => void navigate('/', {replace: true})},
    );
  };
  if (invitation.isPending && secret) return <Loading what="the invitation" />;
  const found = invitation.data;
  if (!found) {
    return (
      <DoorForm title="Invitation" text="This link cannot be used." onSubmit={(event) => event.preventDefault()}>
        {invitation.error ? (
          <Trouble error={invitation.error} />
        ) : (
          <p>The address is incomplete. Open the link of the message.</p>
        )}
      </DoorForm>
    );
  }
  const what =
    found.role === 'owner'
      ? 'You will own this installation: you manage its tenants and people.'
      : `${found.invited_by} invites you to ${found.tenant_name} as ${found.role}.`;
  return (
    <DoorForm
      title="Invitation"
      text={`${what} Valid until ${time(found.expires_at)} ${zoneName()}.`}
      onSubmit={submit}
    >
      {found.email ? (
        <Field label="Email address" value={found.email} autoComplete="username" isReadOnly />
      ) : (
        <Field
          label="Email address"
          type="email"
          value={email}
          onChange={setEmail}
          autoComplete="username"
          isRequired
        />
      )}
      {!found.has_account && <Field label="Your name" value={name} onChange={setName} autoComplete="name" isRequired />}
      <Field
        label={found.has_account ? 'Your password' : 'New password'}
        hint={found.has_account ? undefined : '10 to 256 characters that are not easy to guess'}
        type="password"
        autoComplete={found.has_account ? 'current-password' : 'new-password'}
        value={password}
        onChange={setPassword}
        isRequired
      />
      {(asksForCode(accept.error) || code) && (
        <Field
          label="Code"
          hint="From your authenticator app, or a recovery code"
          value={code}
          onChange={setCode}
          isRequired
        />
      )}
      <Button type="submit" tone="main" isDisabled={accept.isPending}>
        {found.has_account ? 'Accept' : 'Create account'}
      </Button>
      {accept.error && !codeRequired(accept.error) && <Trouble error={accept.error} />}
    </DoorForm>
  );
}
