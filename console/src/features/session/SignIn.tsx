/** Signing in: address and password, and the code of the second factor once the service asks for it. */
import {useState, type FormEvent, type ReactNode} from 'react';
import styled from 'styled-components';
import {passkeysWorkHere} from './passkeys';
import {
  asksForCode,
  codeRequired,
  issuerAddress,
  issuerProblem,
  usePasskeySignIn,
  useSignIn,
  useSignInOptions,
} from './queries';
import {Button} from '../../design/Button';
import {Field} from '../../design/Field';
import {Notice, Trouble} from '../../design/Notice';
import {Plate} from '../../design/Plate';
import {colour, conditions, floors, space} from '../../design/tokens';

const Page = styled.main`
  min-height: 100vh;
  display: grid;
  place-content: center;
  padding: ${space.l};
`;
const Form = styled.form`
  display: grid;
  gap: ${space.l};
  width: min(340px, 90vw);
  background: ${colour('sheet')};
  border: 1px solid ${colour('line')};
  padding: ${space.xl};
  p {
    color: ${colour('soft')};
  }
`;

const Others = styled.section`
  display: grid;
  gap: ${space.m};
  border-top: 1px solid ${colour('line')};
  padding-top: ${space.l};
`;

/** The sheet that both signing in and accepting an invitation are written on. */
export const DoorForm = ({
  title,
  text,
  onSubmit,
  children,
}: {
  title: string;
  text: string;
  onSubmit: (event: FormEvent) => void;
  children: ReactNode;
}) => (
  <Page>
    <Form onSubmit={onSubmit}>
      <div style={{display: 'flex', gap: 6, alignItems: 'end'}} aria-hidden>
        {conditions.map((each, i) => (
          <Plate key={each} value={floors[each] + [14, 12, 14, 22][i]!} margin={6} width={22} height={44} />
        ))}
      </div>
      <div>
        <h1>{title}</h1>
        <p>{text}</p>
      </div>
      {children}
    </Form>
  </Page>
);

export function SignIn() {
  const [email, setEmail] = useState('');
  const [password, setPassword] = useState('');
  const [code, setCode] = useState('');
  const signIn = useSignIn();
  const codeWanted = asksForCode(signIn.error) || code !== '';
  const submit = (event: FormEvent) => {
    event.preventDefault();
    signIn.mutate({email, password, code});
  };
  return (
    <DoorForm title="Rust Gauge" text="Measure, explain and fix email deliverability." onSubmit={submit}>
      <Field label="Email address" type="email" autoComplete="username" value={email} onChange={setEmail} isRequired />
      <Field
        label="Password"
        type="password"
        autoComplete="current-password"
        value={password}
        onChange={setPassword}
        isRequired
      />
      {codeWanted && (
        <Field
          label="Code"
          hint="From your authenticator app, or a recovery code"
          autoComplete="one-time-code"
          value={code}
          onChange={setCode}
          isRequired
        />
      )}
      <Button type="submit" tone="main" isDisabled={signIn.isPending}>
        Sign in
      </Button>
      {signIn.error && !codeRequired(signIn.error) && <Trouble error={signIn.error} />}
      <OtherWays />
    </DoorForm>
  );
}

/** Passkeys and issuers, where there are any. */
function OtherWays() {
  const options = useSignInOptions();
  const passkey = usePasskeySignIn();
  const failed = issuerProblem(window.location.search);
  const issuers = options.data?.issuers ?? [];
  const passkeys = passkeysWorkHere(options.data?.passkey_origin ?? '');
  const page = failed ? '/' : window.location.pathname + window.location.search + window.location.hash;
  if (!passkeys && issuers.length === 0) return null;
  return (
    <Others aria-label="Other ways to sign in">
      {passkeys && (
        <Button onPress={() => passkey.mutate()} isDisabled={passkey.isPending}>
          Sign in with a passkey
        </Button>
      )}
      {issuers.map((issuer) => (
        <Button key={issuer.name} onPress={() => window.location.assign(issuerAddress(issuer.name, page))}>
          Sign in with {issuer.title}
        </Button>
      ))}
      {passkey.error && <Trouble error={passkey.error} />}
      {failed && <Notice title="Not signed in">{failed}</Notice>}
    </Others>
  );
}
