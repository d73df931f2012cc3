import {useState, type FormEvent} from 'react';
import {Link} from 'react-router';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useAddDomain, useAuditAll, useDomains} from './queries';
import {Button} from '../../design/Button';
import {Card, Small, Tag} from '../../design/Card';
import {DataTable, type Column} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {ago, plural} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {font, space} from '../../design/tokens';
import {useView} from '../../shell/view';
import {AuditSettingsCard} from './AuditSettingsCard';
import {BatchesCard} from './BatchesCard';
import {SendersCard} from './SendersCard';
import {useDone} from '../../design/Done';
import {Needs, useMay} from '../../design/may';
import {SelectionBar, useSelection} from '../../design/selection';

type Domain = Schemas['Domain'];
type Who = Schemas['Who'];

const Page = styled.div`
  display: grid;
  gap: ${space.l};
`;
const Form = styled.form`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.m};
  align-items: end;
`;

export function DomainsPage({who}: {who: Who}) {
  const {tenant} = useView();
  const shown = who.tenants.filter((each) => !tenant || each.slug === tenant);
  return (
    <Page>
      <h1>Domains</h1>
      {shown.map((each) => (
        <TenantDomains key={each.slug} tenant={each} adding={shown.length === 1} />
      ))}
      {shown.length > 1 && (
        <Small>Choose a tenant above to add domains, run batch audits or change audit settings.</Small>
      )}
      {shown.length === 1 && <SendersCard tenant={shown[0]!.slug} />}
      {shown.length === 1 && <BatchesCard tenant={shown[0]!.slug} />}
      {shown.length === 1 && (
        <Needs least="admin">
          <AuditSettingsCard key={shown[0]!.slug} tenant={shown[0]!.slug} />
        </Needs>
      )}
    </Page>
  );
}

const columns: Column<Domain>[] = [
  {
    name: 'Domain',
    value: (row) => row.name,
    show: (row) => (
      <Link to={`/domains/${row.tenant}/${row.name}`} style={{font: `13px ${font.mono}`}}>
        {row.name}
      </Link>
    ),
  },
  {
    name: 'Records',
    value: (row) => (row.last_audit ? `${row.last_audit.faults} faults, ${row.last_audit.risks} risks` : 'not audited'),
    show: (row) => <State domain={row} />,
  },
  {
    name: 'Verified',
    value: (row) => (row.verified ? 'yes' : 'no'),
    show: (row) => (row.verified ? <Tag level="right">verified</Tag> : <Small>no</Small>),
  },
  {name: 'SPF lookups (of 10)', value: (row) => row.last_audit?.spf_lookups, number: true},
  {name: 'Selectors', value: (row) => row.selectors.join(' ')},
  {
    name: 'Last audit',
    value: (row) => row.last_audit?.finished_at,
    show: (row) => (row.last_audit ? ago(row.last_audit.finished_at) : ''),
  },
];

function State({domain}: {domain: Domain}) {
  const audit = domain.last_audit;
  if (!audit) return <Small>{domain.origin === 'seen' ? 'seen in mail only' : 'not audited yet'}</Small>;
  if (!audit.faults && !audit.risks) return <Tag level="right">no faults</Tag>;
  return (
    <span style={{display: 'inline-flex', gap: 6}}>
      {audit.faults > 0 && <Tag level="fault">{plural(audit.faults, 'fault')}</Tag>}
      {audit.risks > 0 && <Tag level="risk">{plural(audit.risks, 'risk')}</Tag>}
    </span>
  );
}

function TenantDomains({tenant, adding}: {tenant: Schemas['TenantRef']; adding: boolean}) {
  const domains = useDomains(tenant.slug);
  const may = useMay();
  const selection = useSelection(domains.data?.items.map((row) => row.name) ?? []);
  const audit = useAuditAll(tenant.slug);
  const tell = useDone();
  const auditSelected = () =>
    audit.mutate(selection.ids, {
      onSuccess: ({audited, failed}) => {
        tell({
          text: `${plural(audited, 'domain')} audited.${failed.length ? ` Not audited: ${failed.join(', ')}.` : ''}`,
        });
        selection.clear();
      },
    });
  return (
    <Card
      title={tenant.name}
      note={domains.data && plural(domains.data.items.length, 'domain')}
      actions={<Link to={`/domains/reports?tenant=${tenant.slug}`}>Reports of receivers</Link>}
    >
      {domains.isPending && <Loading what="domains" />}
      {domains.error && <Trouble error={domains.error} again={() => void domains.refetch()} />}
      {domains.data?.items.length === 0 && <Notice title="No domains yet">Add your first domain below.</Notice>}
      {domains.data && domains.data.items.length > 0 && (
        <>
          <SelectionBar selection={selection} of={`domains of ${tenant.name}`}>
            <Button changes onPress={auditSelected} isDisabled={audit.isPending}>
              {audit.isPending
                ? `Auditing, ${audit.done} of ${selection.ids.length} done`
                : `Audit ${selection.ids.length}`}
            </Button>
          </SelectionBar>
          <DataTable
            label={`Domains of ${tenant.name}`}
            columns={columns}
            rows={domains.data.items}
            id={(row) => row.name}
            file={`domains-${tenant.slug}.csv`}
            selection={may && adding ? selection : undefined}
          />
        </>
      )}
      {adding && <AddDomain tenant={tenant.slug} />}
    </Card>
  );
}

function AddDomain({tenant}: {tenant: string}) {
  const [name, setName] = useState('');
  const [selectors, setSelectors] = useState('');
  const add = useAddDomain(tenant);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const words = selectors.split(/[\s,]+/).filter(Boolean);
    add.mutate({name, selectors: words}, {onSuccess: () => (setName(''), setSelectors(''))});
  };
  return (
    <>
      <Form onSubmit={submit} style={{marginTop: 16}}>
        <Field
          label="Sending domain"
          mono
          value={name}
          onChange={setName}
          placeholder="news.glasswort.example"
          isRequired
        />
        <Field label="DKIM selectors" mono value={selectors} onChange={setSelectors} placeholder="d1 d2" />
        <Button type="submit" tone="main" isDisabled={add.isPending}>
          Add domain
        </Button>
      </Form>
      {add.error && <Trouble error={add.error} />}
    </>
  );
}
