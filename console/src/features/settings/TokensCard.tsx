/** Tokens for programs: made here, shown once, worthless when dropped. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useDropToken, useMakeToken, useTokens} from './queries';
import {Button} from '../../design/Button';
import {Card, Small, Soft} from '../../design/Card';
import {CopyButton} from '../../design/CopyButton';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {ago} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {font, space} from '../../design/tokens';

const Form = styled.form`
  display: flex;
  gap: ${space.s};
  align-items: end;
  flex-wrap: wrap;
  margin-bottom: ${space.m};
`;
const Mono = styled.code`
  font: 12px ${font.mono};
  overflow-wrap: anywhere;
`;

export function TokensCard({tenant}: {tenant: string}) {
  const tokens = useTokens();
  const make = useMakeToken();
  const drop = useDropToken();
  const [name, setName] = useState('');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    make.mutate({name: name.trim(), tenant, expires_in_days: null}, {onSuccess: () => setName('')});
  };
  return (
    <Card title="Your tokens" note="what programs and the command line sign in with">
      <Form onSubmit={submit}>
        <Field
          label="A new token for this tenant"
          value={name}
          onChange={setName}
          placeholder="nightly load"
          isRequired
        />
        <Button type="submit" tone="main" isDisabled={make.isPending}>
          Make it
        </Button>
      </Form>
      {make.error && <Trouble error={make.error} />}
      {make.data && (
        <Notice title="The token, shown this once">
          <Mono>{make.data.secret}</Mono> <CopyButton value={make.data.secret}>Copy the token</CopyButton>{' '}
          <Small>Set it as RUSTGAUGE_TOKEN, or send it as Authorization: Bearer.</Small>
        </Notice>
      )}
      {tokens.isPending && <Loading what="tokens" />}
      {tokens.error && <Trouble error={tokens.error} />}
      {tokens.data?.length === 0 && <Soft>You have none.</Soft>}
      {tokens.data && tokens.data.length > 0 && (
        <DataTable
          label="Tokens"
          columns={[
            {name: 'Name', value: (row: Schemas['Token']) => row.name},
            {name: 'Tenant', value: (row) => row.tenant ?? 'all of yours'},
            {name: 'Made', value: (row) => row.created_at, show: (row) => ago(row.created_at)},
            {
              name: 'Last used',
              value: (row) => row.last_used_at ?? '',
              show: (row) => (row.last_used_at ? ago(row.last_used_at) : <Soft>never</Soft>),
            },
            {name: 'Ends', value: (row) => row.expires_at?.slice(0, 10) ?? 'never'},
            {
              name: '',
              value: () => '',
              tool: true,
              show: (row) => (
                <Button tone="link" onPress={() => drop.mutate(row.id)}>
                  Drop
                </Button>
              ),
            },
          ]}
          rows={tokens.data}
          id={(row) => String(row.id)}
          file="tokens.csv"
        />
      )}
      {drop.error && <Trouble error={drop.error} />}
    </Card>
  );
}
