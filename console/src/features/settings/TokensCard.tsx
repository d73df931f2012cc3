/** API tokens: created here, limited to what the program needs, shown once, invalid as soon as they are revoked. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useDropToken, useMakeToken, useRotateToken, useTokens} from './queries';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {CopyButton} from '../../design/CopyButton';
import {Confirm} from '../../design/Confirm';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {ago, time, zoneName} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Several} from '../../design/Several';
import {font, space} from '../../design/tokens';

const Mono = styled.code`
  font: 12px ${font.mono};
  overflow-wrap: anywhere;
`;
const Tools = styled.span`
  display: flex;
  gap: ${space.s};
`;
// What a token can be limited to; writing includes reading.
const CAPABILITIES = [
  ['events', 'Events'],
  ['suppression', 'Suppression and clearance'],
  ['flow', 'Mail flow'],
  ['readings', 'Readings'],
  ['worklist', 'Worklist'],
  ['domains', 'Domains'],
  ['audits', 'Audits'],
  ['assays', 'Assays'],
  ['plans', 'Record plans'],
  ['publishing', 'Publishing'],
  ['watches', 'Watches'],
  ['proofs', 'Proofs'],
  ['feeds', 'Feeds'],
  ['webhooks', 'Webhooks'],
  ['jobs', 'Jobs'],
  ['people', 'People and audit log'],
] as const;
const SCOPES = CAPABILITIES.flatMap(([name, label]) => [
  {value: `${name}:read`, label: `${label}: read`},
  {value: `${name}:write`, label: `${label}: write`},
]);
const DAYS = [
  {value: '30', label: '30 days'},
  {value: '90', label: '90 days'},
  {value: '365', label: '1 year'},
  {value: '', label: 'No end date'},
];
const networksOf = (text: string) => text.split(/[\s,;]+/).filter(Boolean);

export function TokensCard({tenant}: {tenant: string}) {
  const tokens = useTokens();
  const make = useMakeToken();
  const drop = useDropToken();
  const rotate = useRotateToken();
  const [name, setName] = useState('');
  const [scopes, setScopes] = useState<string[]>([]);
  const [networks, setNetworks] = useState('');
  const [days, setDays] = useState('90');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    make.mutate(
      {
        name: name.trim(),
        tenants: [tenant],
        scopes,
        networks: networksOf(networks),
        expires_in_days: days ? Number(days) : null,
      },
      {onSuccess: () => setName('')},
    );
  };
  const shown = rotate.data ?? make.data;
  return (
    <Card title="API tokens" note="for programs and the command line; each acts with your role at most">
      <FormGrid onSubmit={submit}>
        <Field label="Name of the new token" value={name} onChange={setName} placeholder="nightly import" isRequired />
        <Choice label="Valid for" field value={days} options={DAYS} onChange={setDays} />
        <Field
          label="Networks"
          hint="Addresses or networks it may be used from; empty: anywhere"
          value={networks}
          onChange={setNetworks}
          placeholder="192.0.2.0/24"
          mono
        />
        <div data-wide>
          <Several
            label="Scopes"
            none="Everything that your role allows"
            add="Add a limit"
            value={scopes}
            options={SCOPES}
            onChange={setScopes}
          />
        </div>
        <footer>
          <Button type="submit" tone="main" isDisabled={make.isPending || !name.trim()}>
            Create token
          </Button>
        </footer>
      </FormGrid>
      {make.error && <Trouble error={make.error} />}
      {shown && (
        <Notice title={`${shown.name}: copy the secret now, it is not shown again`}>
          <span>
            <Mono>{shown.secret}</Mono> <CopyButton value={shown.secret}>Copy</CopyButton>
          </span>
          <Small>
            Set it as RUSTGAUGE_TOKEN, or send it as Authorization: Bearer.
            {shown.previous_until && ` The secret before is valid until ${time(shown.previous_until)} ${zoneName()}.`}
          </Small>
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
            {name: 'Tenants', value: (row) => row.tenants?.join(', ') || 'all'},
            {name: 'May do', value: (row) => row.scopes?.join(', ') || 'everything'},
            {name: 'Networks', value: (row) => row.networks?.join(', ') || 'any'},
            {
              name: 'Last used',
              value: (row) => row.last_used_at ?? '',
              show: (row) => (
                <>
                  {row.last_used_at ? `${ago(row.last_used_at)} from ${row.last_used_address}` : <Soft>never</Soft>}
                  {row.refused_at && (
                    <>
                      {' '}
                      <Tag level="risk">refused from {row.refused_address}</Tag>
                    </>
                  )}
                </>
              ),
            },
            {name: 'Expires', value: (row) => row.expires_at?.slice(0, 10) ?? 'never'},
            {
              name: '',
              value: () => '',
              tool: true,
              show: (row) => (
                <Tools>
                  <Confirm
                    label="Rotate"
                    tone="link"
                    title={`Rotate the token ${row.name}?`}
                    action="Rotate"
                    onConfirm={() => rotate.mutate(row.id)}
                  >
                    It gets a new secret. The one before stays valid for 24 hours, so that programs can change over.
                  </Confirm>
                  <Confirm
                    label="Revoke"
                    tone="link"
                    title={`Revoke the token ${row.name}?`}
                    action="Revoke"
                    onConfirm={() => drop.mutate(row.id)}
                  >
                    Programs that use it can no longer sign in.
                  </Confirm>
                </Tools>
              ),
            },
          ]}
          rows={tokens.data}
          id={(row) => String(row.id)}
          file="tokens.csv"
        />
      )}
      {[drop, rotate].map((each, i) => each.error && <Trouble key={i} error={each.error} />)}
    </Card>
  );
}
