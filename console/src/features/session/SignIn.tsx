/** Signing in: address and password, and the code of the second factor once the service asks for it. */
import {useState, type FormEvent, type ReactNode} from 'react';
import styled from 'styled-components';
import {asksForCode, codeRequired, useSignIn} from './queries';
import {Button} from '../../design/Button';
import {Field} from '../../design/Field';
import {Trouble} from '../../design/Notice';
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
    </DoorForm>
  );
}
