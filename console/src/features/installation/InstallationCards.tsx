/** What an owner manages: tenants, people, and which addresses, folders and hosts belong to which tenant. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {
  useAddTenant,
  useAssign,
  useAssignments,
  useChainCheck,
  useChangeOwner,
  useDeletePerson,
  useDeleteTenant,
  useInviteOwner,
  usePeople,
  useResetSecondFactor,
  useTenants,
  useUnassign,
} from './queries';
import {AuditLogCard} from '../people/AuditLogCard';
import {PassOn} from '../people/MembersCard';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {Confirm} from '../../design/Confirm';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {count} from '../../design/format';
import {Loading, Trouble} from '../../design/Notice';
import {space} from '../../design/tokens';

const Stacked = styled.div`
  display: grid;
  gap: ${space.l};
`;
const Tools = styled.span`
  display: flex;
  gap: ${space.s};
`;

export function TenantsCard() {
  const tenants = useTenants();
  const add = useAddTenant();
  const remove = useDeleteTenant();
  const [slug, setSlug] = useState('');
  const [name, setName] = useState('');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    add.mutate(
      {slug: slug.trim(), name: name.trim()},
      {
        onSuccess: () => {
          setSlug('');
          setName('');
        },
      },
    );
  };
  return (
    <Card title="Tenants" note="customers or departments, kept apart from each other">
      <FormGrid onSubmit={submit}>
        <Field label="Name" value={name} onChange={setName} placeholder="Glasswort Theatre" isRequired />
        <Field
          label="Short name"
          hint="a–z, 0–9 and hyphens; used in addresses, cannot be changed"
          value={slug}
          onChange={setSlug}
          placeholder="glasswort"
          isRequired
        />
        <footer>
          <Button type="submit" tone="main" isDisabled={add.isPending || !slug.trim() || !name.trim()}>
            Add tenant
          </Button>
          {add.data && <Small role="status">Added. You are its admin.</Small>}
        </footer>
      </FormGrid>
      {add.error && <Trouble error={add.error} />}
      {remove.error && <Trouble error={remove.error} />}
      {tenants.isPending && <Loading what="tenants" />}
      {tenants.error && <Trouble error={tenants.error} />}
      {tenants.data?.length === 0 && <Soft>No tenants yet. Add the first one above.</Soft>}
      {tenants.data && tenants.data.length > 0 && (
        <DataTable
          label="Tenants"
          columns={[
            {name: 'Name', value: (row: Schemas['Tenant']) => row.name},
            {name: 'Short name', value: (row) => row.slug},
            {name: 'Members', value: (row) => row.members, number: true},
            {name: 'Second factor', value: (row) => (row.second_factor ? 'required' : 'optional')},
            {name: 'Created', value: (row) => row.created_at.slice(0, 10)},
            {
              name: '',
              value: () => '',
              tool: true,
              show: (row) => (
                <Confirm
                  label="Delete"
                  tone="link"
                  title={`Delete ${row.name} with all its data?`}
                  action={`Delete ${row.slug}`}
                  onConfirm={() => remove.mutate(row.slug)}
                >
                  Events, lists, readings and settings are deleted, and cannot be restored without a backup. Nobody sees
                  the tenant any more from now on.
                </Confirm>
              ),
            },
          ]}
          rows={tenants.data}
          id={(row) => row.slug}
          file="tenants.csv"
        />
      )}
    </Card>
  );
}

export function PeopleCard({who}: {who: Schemas['Who']}) {
  const people = usePeople();
  const owner = useChangeOwner();
  const remove = useDeletePerson();
  const reset = useResetSecondFactor();
  const invite = useInviteOwner();
  const [email, setEmail] = useState('');
  return (
    <Card title="People" note="all accounts of the installation; owners manage tenants and people">
      {people.isPending && <Loading what="people" />}
      {people.error && <Trouble error={people.error} />}
      {people.data && (
        <DataTable
          label="People"
          columns={[
            {name: 'Name', value: (row: Schemas['Person']) => row.name},
            {name: 'Email', value: (row) => row.email},
            {
              name: 'Owner',
              value: (row) => (row.is_owner ? 'yes' : ''),
              show: (row) => row.is_owner && <Tag level="note">owner</Tag>,
            },
            {name: 'Second factor', value: (row) => (row.second_factor ? 'on' : 'off')},
            {name: 'Tenants', value: (row) => row.tenants.join(', ')},
            {
              name: '',
              value: () => '',
              tool: true,
              show: (row) => (
                <Tools>
                  <Button tone="link" onPress={() => owner.mutate({email: row.email, is_owner: !row.is_owner})}>
                    {row.is_owner ? 'End ownership' : 'Make owner'}
                  </Button>
                  {row.second_factor && row.email !== who.email && (
                    <Confirm
                      label="Reset second factor"
                      tone="link"
                      title={`Turn off the second factor of ${row.name}?`}
                      action="Turn off"
                      onConfirm={() => reset.mutate(row.email)}
                    >
                      Make sure that it is them who ask: whoever knows the password can sign in then.
                    </Confirm>
                  )}
                  {row.email !== who.email && (
                    <Confirm
                      label="Delete"
                      tone="link"
                      title={`Delete the account of ${row.name}?`}
                      action="Delete"
                      onConfirm={() => remove.mutate(row.email)}
                    >
                      Its sessions and tokens end. What the person did stays in the audit log.
                    </Confirm>
                  )}
                </Tools>
              ),
            },
          ]}
          rows={people.data}
          id={(row) => row.email}
          file="people.csv"
        />
      )}
      {[owner, remove, reset].map((each, i) => each.error && <Trouble key={i} error={each.error} />)}
      <FormGrid
        style={{marginTop: 16}}
        onSubmit={(event) => {
          event.preventDefault();
          invite.mutate(email.trim(), {onSuccess: () => setEmail('')});
        }}
      >
        <Field label="Invite another owner" type="email" value={email} onChange={setEmail} isRequired />
        <footer>
          <Button type="submit" isDisabled={invite.isPending || !email.trim()}>
            Invite
          </Button>
          {invite.data?.sent && <Small role="status">Sent to {invite.data.email}.</Small>}
        </footer>
      </FormGrid>
      {invite.data && !invite.data.sent && <PassOn made={invite.data} />}
      {invite.error && <Trouble error={invite.error} />}
    </Card>
  );
}

const KINDS = [
  {value: 'mail', label: 'Address or @domain for bounces'},
  {value: 'folder', label: 'Folder or file'},
  {value: 'host', label: 'Host or host:port'},
] as const;
type Kind = (typeof KINDS)[number]['value'];

export function AssignmentsCard() {
  const assignments = useAssignments();
  const tenants = useTenants();
  const assign = useAssign();
  const unassign = useUnassign();
  const [kind, setKind] = useState<Kind>('mail');
  const [value, setValue] = useState('');
  const [tenant, setTenant] = useState('');
  const chosen = tenant || tenants.data?.[0]?.slug || '';
  return (
    <Card
      title="Assignments"
      note="what feeds read belongs to one tenant each, so that nobody reads another tenant's mail"
    >
      <FormGrid
        onSubmit={(event) => {
          event.preventDefault();
          assign.mutate({kind, value: value.trim(), tenant: chosen}, {onSuccess: () => setValue('')});
        }}
      >
        <Choice label="What" field value={kind} options={[...KINDS]} onChange={(next) => setKind(next as Kind)} />
        <Field
          label="Value"
          value={value}
          onChange={setValue}
          placeholder="@bounce.glasswort.example"
          mono
          isRequired
        />
        <Choice
          label="Tenant"
          field
          value={chosen}
          options={(tenants.data ?? []).map((each) => ({value: each.slug, label: each.name}))}
          onChange={setTenant}
        />
        <footer>
          <Button type="submit" tone="main" isDisabled={assign.isPending || !value.trim() || !chosen}>
            Assign
          </Button>
        </footer>
      </FormGrid>
      {[assign, unassign].map((each, i) => each.error && <Trouble key={i} error={each.error} />)}
      {assignments.isPending && <Loading what="assignments" />}
      {assignments.error && <Trouble error={assignments.error} />}
      {assignments.data?.length === 0 && <Soft>Nothing is assigned yet.</Soft>}
      {assignments.data && assignments.data.length > 0 && (
        <DataTable
          label="Assignments"
          columns={[
            {name: 'Kind', value: (row: Schemas['Assignment']) => row.kind},
            {name: 'Value', value: (row) => row.value, show: (row) => <code>{row.value}</code>},
            {name: 'Tenant', value: (row) => row.tenant},
            {name: 'Since', value: (row) => row.assigned_at.slice(0, 10)},
            {name: 'Assigned by', value: (row) => row.assigned_by},
            {
              name: '',
              value: () => '',
              tool: true,
              show: (row) => (
                <Confirm
                  label="Withdraw"
                  tone="link"
                  title={`Take ${row.value} back?`}
                  action="Withdraw"
                  onConfirm={() => unassign.mutate({kind: row.kind, value: row.value})}
                >
                  Feeds that use it stop receiving.
                </Confirm>
              ),
            },
          ]}
          rows={assignments.data}
          id={(row) => row.kind + row.value}
          file="assignments.csv"
        />
      )}
    </Card>
  );
}

export function InstallationLog() {
  const check = useChainCheck();
  return (
    <Stacked>
      <Card
        title="Integrity"
        note="each entry holds a hash over itself and the one before it"
        actions={
          <Button onPress={() => check.mutate()} isDisabled={check.isPending}>
            Check
          </Button>
        }
      >
        {check.error && <Trouble error={check.error} />}
        {check.data ? (
          <p role="status">
            <Tag level={check.data.intact ? 'right' : 'fault'}>{check.data.intact ? 'intact' : 'not intact'}</Tag>{' '}
            {check.data.intact
              ? `${count(check.data.entries)} entries, complete and unchanged.`
              : `${check.data.problem}; the ${count(check.data.entries)} entries before it fit.`}
          </p>
        ) : (
          <Soft>Not checked in this visit.</Soft>
        )}
      </Card>
      <AuditLogCard />
    </Stacked>
  );
}
