/** People of a tenant: members with their roles, invitations, and whether a second factor is required. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {
  useChangeRole,
  useInvitations,
  useInvite,
  useMembers,
  useRemoveMember,
  useSetTenantSettings,
  useTenantSettings,
  useWithdraw,
} from './queries';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {CheckField} from '../../design/CheckField';
import {Choice} from '../../design/Choice';
import {Confirm} from '../../design/Confirm';
import {CopyButton} from '../../design/CopyButton';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {inZone, time} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {font, space} from '../../design/tokens';

type Role = Schemas['Member']['role'];
const ROLES: {value: Role; label: string; does: string}[] = [
  {value: 'viewer', label: 'Viewer', does: 'reads everything'},
  {value: 'operator', label: 'Operator', does: 'also works with audits, the worklist, suppression and feeds'},
  {value: 'admin', label: 'Admin', does: 'also changes settings, policies, secrets and people'},
];
const Stacked = styled.div`
  display: grid;
  gap: ${space.l};
`;
const Mono = styled.code`
  font: 12px ${font.mono};
  overflow-wrap: anywhere;
`;

export function MembersCard({tenant, who}: {tenant: string; who: Schemas['Who']}) {
  const isAdmin = who.tenants.find((each) => each.slug === tenant)?.role === 'admin';
  const members = useMembers(tenant);
  const changeRole = useChangeRole(tenant);
  const remove = useRemoveMember(tenant);
  return (
    <Stacked>
      <Card title="Members" note={isAdmin ? 'who may see this tenant' : 'who may see this tenant; admins change it'}>
        {members.isPending && <Loading what="members" />}
        {members.error && <Trouble error={members.error} />}
        {members.data && (
          <DataTable
            label="Members"
            columns={[
              {name: 'Name', value: (row: Schemas['Member']) => row.name},
              {name: 'Email', value: (row) => row.email},
              {
                name: 'Role',
                value: (row) => row.role,
                show: (row) =>
                  isAdmin ? (
                    <div style={{minWidth: '12ch'}}>
                      <Choice
                        label={`Role of ${row.name}`}
                        value={row.role}
                        options={ROLES}
                        onChange={(role) => changeRole.mutate({email: row.email, role: role as Role})}
                      />
                    </div>
                  ) : (
                    row.role
                  ),
              },
              {
                name: 'Second factor',
                value: (row) => (row.second_factor ? 'on' : 'off'),
                show: (row) => (row.second_factor ? <Tag level="right">on</Tag> : <Soft>off</Soft>),
              },
              {
                name: '',
                value: () => '',
                tool: true,
                show: (row) =>
                  isAdmin && (
                    <Confirm
                      label="Remove"
                      tone="link"
                      title={`Remove ${row.name} from this tenant?`}
                      action="Remove"
                      onConfirm={() => remove.mutate(row.email)}
                    >
                      Access ends with the next request. The account and its other tenants stay.
                    </Confirm>
                  ),
              },
            ]}
            rows={members.data}
            id={(row) => row.email}
            file={`members-${tenant}.csv`}
          />
        )}
        {[changeRole, remove].map((each, i) => each.error && <Trouble key={i} error={each.error} />)}
        <p>
          <Small>{ROLES.map((each) => `${each.label}: ${each.does}`).join('. ')}.</Small>
        </p>
      </Card>
      {isAdmin && <InvitationsCard tenant={tenant} />}
      <SecondFactorRequired tenant={tenant} isAdmin={isAdmin} />
    </Stacked>
  );
}

function InvitationsCard({tenant}: {tenant: string}) {
  const invitations = useInvitations(tenant, true);
  const invite = useInvite(tenant);
  const withdraw = useWithdraw(tenant);
  const [email, setEmail] = useState('');
  const [role, setRole] = useState<Role>('viewer');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    invite.mutate({email: email.trim(), role}, {onSuccess: () => setEmail('')});
  };
  return (
    <Card title="Invitations" note="by mail, with a link that works once and for 7 days">
      <FormGrid onSubmit={submit}>
        <Field label="Email address" type="email" value={email} onChange={setEmail} isRequired />
        <Choice label="Role" field value={role} options={ROLES} onChange={(value) => setRole(value as Role)} />
        <footer>
          <Button type="submit" tone="main" isDisabled={invite.isPending || !email.trim()}>
            Invite
          </Button>
          {invite.data?.sent && <Small role="status">Sent to {invite.data.email}.</Small>}
        </footer>
      </FormGrid>
      {invite.error && <Trouble error={invite.error} />}
      {invite.data && !invite.data.sent && <PassOn made={invite.data} />}
      {invitations.error && <Trouble error={invitations.error} />}
      {invitations.data?.length === 0 && <Soft>No open invitations.</Soft>}
      {invitations.data && invitations.data.length > 0 && (
        <DataTable
          label="Open invitations"
          columns={[
            {name: 'Email', value: (row: Schemas['Invitation']) => row.email},
            {name: 'Role', value: (row) => row.role},
            {name: 'Invited by', value: (row) => row.invited_by},
            {name: inZone('Valid until'), value: (row) => row.expires_at, show: (row) => time(row.expires_at)},
            {
              name: '',
              value: () => '',
              tool: true,
              show: (row) => (
                <Button tone="link" onPress={() => withdraw.mutate(row.id)}>
                  Withdraw
                </Button>
              ),
            },
          ]}
          rows={invitations.data}
          id={(row) => String(row.id)}
        />
      )}
      {withdraw.error && <Trouble error={withdraw.error} />}
    </Card>
  );
}

/** The link of an invitation that no relay could send. */
export const PassOn = ({made}: {made: Schemas['MadeInvitation']}) => (
  <Notice title="No message was sent: pass this link on yourself">
    <span>{made.problem}</span>
    <span>
      <Mono>{made.link}</Mono> <CopyButton value={made.link ?? ''}>Copy</CopyButton>
    </span>
  </Notice>
);

function SecondFactorRequired({tenant, isAdmin}: {tenant: string; isAdmin: boolean}) {
  const settings = useTenantSettings(tenant);
  const set = useSetTenantSettings(tenant);
  if (!settings.data) return settings.error ? <Trouble error={settings.error} /> : null;
  const now = settings.data;
  return (
    <Card title="Sign-in" note="how members sign in">
      <CheckField
        label="Require a second factor from all members"
        isSelected={now.second_factor}
        isDisabled={!isAdmin || set.isPending}
        onChange={(second_factor) => set.mutate({...now, second_factor})}
      />
      <p>
        <Small>Members without one keep their account, and see this tenant again once they have set one up.</Small>
      </p>
      {set.error && <Trouble error={set.error} />}
    </Card>
  );
}
