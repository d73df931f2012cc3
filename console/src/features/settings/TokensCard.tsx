/** API tokens: created here, shown once, invalid as soon as they are revoked. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useDropToken, useMakeToken, useTokens} from './queries';
import {Button} from '../../design/Button';
import {Card, Small, Soft} from '../../design/Card';
import {CopyButton} from '../../design/CopyButton';
import {Confirm} from '../../design/Confirm';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {ago} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {font} from '../../design/tokens';

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
    <Card title="API tokens" note="for programs and the command line; each acts with your role">
      <FormGrid onSubmit={submit}>
        <Field label="Name of the new token" value={name} onChange={setName} placeholder="nightly import" isRequired />
        <footer>
          <Button type="submit" tone="main" isDisabled={make.isPending || !name.trim()}>
            Create token
          </Button>
        </footer>
      </FormGrid>
      {make.error && <Trouble error={make.error} />}
      {make.data && (
        <Notice title="New token: copy it now, it is not shown again">
          <Mono>{make.data.secret}</Mono> <CopyButton value={make.data.secret}>Copy</CopyButton>{' '}
          <Small>Set it as RUSTGAUGE_TOKEN, or send it as Authorization: Bearer.</Small>
        </Notice>
      )}
      {tokens.isPending && <Loading what="tokens" />}
      {tokens.error && <Trouble error={tokens.error} />}
      {tokens.data?.length === 0 && <Soft>No tokens yet.</Soft>}
      {tokens.data && tokens.data.length > 0 && (
        <DataTable
          label="Tokens"
          columns={[
            {name: 'Name', value: (row: Schemas['Token']) => row.name},
            {name: 'Tenant', value: (row) => row.tenant ?? 'all tenants'},
            {name: 'Created', value: (row) => row.created_at, show: (row) => ago(row.created_at)},
            {
              name: 'Last used',
              value: (row) => row.last_used_at ?? '',
              show: (row) => (row.last_used_at ? ago(row.last_used_at) : <Soft>never</Soft>),
            },
            {name: 'Expires', value: (row) => row.expires_at?.slice(0, 10) ?? 'never'},
            {
              name: '',
              value: () => '',
              tool: true,
              show: (row) => (
                <Confirm
                  label="Revoke"
                  tone="link"
                  title={`Revoke the token ${row.name}?`}
                  action="Revoke"
                  onConfirm={() => drop.mutate(row.id)}
                >
                  Programs that use it can no longer sign in.
                </Confirm>
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
