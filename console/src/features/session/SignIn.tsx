import {useMutation, useQueryClient} from '@tanstack/react-query';
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import {api, unwrap} from '../../api/client';
import {sessionQuery} from './queries';
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

export function SignIn() {
  const [email, setEmail] = useState('');
  const [password, setPassword] = useState('');
  const queries = useQueryClient();
  const signIn = useMutation({
    mutationFn: () => unwrap(api.POST('/api/v1/session', {body: {email, password}})),
    onSuccess: (who) => queries.setQueryData(sessionQuery.queryKey, who),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    signIn.mutate();
  };
  return (
    <Page>
      <Form onSubmit={submit}>
        <div style={{display: 'flex', gap: 6, alignItems: 'end'}} aria-hidden>
          {conditions.map((each, i) => (
            <Plate key={each} value={floors[each] + [14, 12, 14, 22][i]!} margin={6} width={22} height={44} />
          ))}
        </div>
        <div>
          <h1>Rust Gauge</h1>
          <p>Measure, explain and fix email deliverability.</p>
        </div>
        <Field
          label="Email address"
          type="email"
          autoComplete="username"
          value={email}
          onChange={setEmail}
          isRequired
        />
        <Field
          label="Password"
          type="password"
          autoComplete="current-password"
          value={password}
          onChange={setPassword}
          isRequired
        />
        <Button type="submit" tone="main" isDisabled={signIn.isPending}>
          Sign in
        </Button>
        {signIn.error && <Trouble error={signIn.error} />}
      </Form>
    </Page>
  );
}
