/** What an administrator sets for a tenant, in sections that have an address each. */
import {Fragment, type ReactNode} from 'react';
import {Navigate, NavLink, useParams} from 'react-router';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Needs, type Role} from '../../design/may';
import {colour, narrow, space} from '../../design/tokens';
import {useView} from '../../shell/view';
import {AlertsCard} from './AlertsCard';
import {FactorsCard} from './FactorsCard';
import {GlossaryCard} from './GlossaryCard';
import {RecipientDataCard} from './RecipientDataCard';
import {ReportStyleCard} from './ReportStyleCard';
import {RetentionCard} from './RetentionCard';
import {StreamPausesCard} from './StreamPausesCard';
import {TokensCard} from './TokensCard';
import {WebhooksCard} from './WebhooksCard';
import {AccountCards} from '../account/AccountCards';
import {AssignmentsCard, InstallationLog, PeopleCard, TenantsCard} from '../installation/InstallationCards';
import {AuditLogCard} from '../people/AuditLogCard';
import {MembersCard} from '../people/MembersCard';

const Page = styled.div`
  display: grid;
  gap: ${space.l} ${space.xl};
  grid-template-columns: 180px minmax(0, 1fr);
  align-items: start;
  > h1 {
    grid-column: 1 / -1;
  }
  > nav {
    display: grid;
    gap: 2px;
  }
  > nav b {
    padding: 10px ${space.s} 4px;
    font-size: 12px;
    color: ${colour('soft')};
  }
  > nav b:first-child {
    padding-top: 0;
  }
  > nav a {
    padding: 6px ${space.s};
    color: ${colour('soft')};
    text-decoration: none;
    border-left: 2px solid transparent;
    white-space: nowrap;
  }
  > nav a.active {
    color: ${colour('ink')};
    font-weight: 600;
    border-color: ${colour('rust')};
  }
  ${narrow} {
    grid-template-columns: minmax(0, 1fr);
    > nav {
      display: flex;
      overflow-x: auto;
    }
    > nav b {
      display: none;
    }
    > nav a {
      border-left: 0;
      border-bottom: 2px solid transparent;
    }
  }
`;
type Who = Schemas['Who'];
interface Section {
  path: string;
  title: string;
  content: (tenant: string, who: Who) => ReactNode;
  /** What changing something here needs; admin, if not given. */
  needs?: Role;
}
const TENANT: Section[] = [
  {path: 'alerts', title: 'Alert channels', content: (tenant) => <AlertsCard key={tenant} tenant={tenant} />},
  {
    path: 'stream-pauses',
    title: 'Stream pauses',
    content: (tenant) => <StreamPausesCard tenant={tenant} />,
    needs: 'operator',
  },
  {path: 'factors', title: 'Reading factors', content: (tenant) => <FactorsCard key={tenant} tenant={tenant} />},
  {path: 'webhooks', title: 'Webhooks', content: (tenant) => <WebhooksCard tenant={tenant} />},
  {
    path: 'reports',
    title: 'Client reports',
    content: (tenant) => <ReportStyleCard key={tenant} tenant={tenant} />,
    needs: 'operator',
  },
  {path: 'tokens', title: 'API tokens', content: (tenant) => <TokensCard tenant={tenant} />, needs: 'viewer'},
  {path: 'retention', title: 'Data retention', content: (tenant) => <RetentionCard tenant={tenant} />},
  {path: 'recipient-data', title: 'Recipient data', content: (tenant) => <RecipientDataCard tenant={tenant} />},
  {
    path: 'members',
    title: 'Members',
    content: (tenant, who) => <MembersCard key={tenant} tenant={tenant} who={who} />,
    needs: 'viewer',
  },
];
const ADMIN: Section[] = [
  {
    path: 'audit-log',
    title: 'Audit log',
    content: (tenant) => <AuditLogCard key={tenant} tenant={tenant} />,
    needs: 'viewer',
  },
];
const PERSON: Section[] = [
  {path: 'account', title: 'Your account', content: () => <AccountCards />, needs: 'viewer'},
  {path: 'glossary', title: 'Glossary', content: () => <GlossaryCard />, needs: 'viewer'},
];
const OWNER: Section[] = [
  {path: 'tenants', title: 'Tenants', content: () => <TenantsCard />, needs: 'viewer'},
  {path: 'people', title: 'People', content: (_, who) => <PeopleCard who={who} />, needs: 'viewer'},
  {path: 'assignments', title: 'Assignments', content: () => <AssignmentsCard />, needs: 'viewer'},
  {path: 'installation-log', title: 'Audit log of all', content: () => <InstallationLog />, needs: 'viewer'},
];

/** What a person's role shows: a tenant's settings, their own account, and the installation if they own it. */
function sectionsOf(who: Who, tenant: Who['tenants'][number] | undefined): {title: string; sections: Section[]}[] {
  return [
    {title: tenant?.name ?? '', sections: tenant ? [...TENANT, ...(tenant.role === 'admin' ? ADMIN : [])] : []},
    {title: 'You', sections: PERSON},
    {title: 'Installation', sections: who.is_owner ? OWNER : []},
  ].filter((group) => group.sections.length > 0);
}

export function SettingsPage({who}: {who: Who}) {
  const view = useView();
  const {section} = useParams();
  const tenant = who.tenants.find((each) => each.slug === view.tenant) ?? who.tenants[0];
  const query = view.tenant ? `?tenant=${view.tenant}` : '';
  const groups = sectionsOf(who, tenant);
  const shown = groups.flatMap((group) => group.sections).find((each) => each.path === section);
  if (!shown) return <Navigate to={`/settings/${groups[0]!.sections[0]!.path}${query}`} replace />;
  return (
    <Page>
      <h1>Settings</h1>
      <nav aria-label="Sections">
        {groups.map((group) => (
          <Fragment key={group.title}>
            <b>{group.title}</b>
            {group.sections.map((each) => (
              <NavLink key={each.path} to={`/settings/${each.path}${query}`}>
                {each.title}
              </NavLink>
            ))}
          </Fragment>
        ))}
      </nav>
      <div>
        <Needs least={shown.needs ?? 'admin'}>{shown.content(tenant?.slug ?? '', who)}</Needs>
      </div>
    </Page>
  );
}
