/** What an administrator sets for a tenant, in sections that have an address each. */
import type {ReactNode} from 'react';
import {Navigate, NavLink, useParams} from 'react-router';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {colour, narrow, space} from '../../design/tokens';
import {useView} from '../../shell/view';
import {AlertsCard} from './AlertsCard';
import {FactorsCard} from './FactorsCard';
import {GlossaryCard} from './GlossaryCard';
import {RecipientDataCard} from './RecipientDataCard';
import {RetentionCard} from './RetentionCard';
import {StreamPausesCard} from './StreamPausesCard';
import {TokensCard} from './TokensCard';
import {WebhooksCard} from './WebhooksCard';

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
    > nav a {
      border-left: 0;
      border-bottom: 2px solid transparent;
    }
  }
`;
interface Section {
  path: string;
  title: string;
  content: (tenant: string) => ReactNode;
}
const SECTIONS: Section[] = [
  {path: 'alerts', title: 'Alert channels', content: (tenant) => <AlertsCard key={tenant} tenant={tenant} />},
  {path: 'stream-pauses', title: 'Stream pauses', content: (tenant) => <StreamPausesCard tenant={tenant} />},
  {path: 'factors', title: 'Reading factors', content: (tenant) => <FactorsCard key={tenant} tenant={tenant} />},
  {path: 'webhooks', title: 'Webhooks', content: (tenant) => <WebhooksCard tenant={tenant} />},
  {path: 'tokens', title: 'API tokens', content: (tenant) => <TokensCard tenant={tenant} />},
  {path: 'retention', title: 'Data retention', content: (tenant) => <RetentionCard tenant={tenant} />},
  {path: 'recipient-data', title: 'Recipient data', content: (tenant) => <RecipientDataCard tenant={tenant} />},
  {path: 'glossary', title: 'Glossary', content: () => <GlossaryCard />},
];

export function SettingsPage({who}: {who: Schemas['Who']}) {
  const view = useView();
  const {section} = useParams();
  const tenant = who.tenants.find((each) => each.slug === view.tenant) ?? who.tenants[0]!;
  const query = view.tenant ? `?tenant=${view.tenant}` : '';
  const shown = SECTIONS.find((each) => each.path === section);
  if (!shown) return <Navigate to={`/settings/${SECTIONS[0]!.path}${query}`} replace />;
  return (
    <Page>
      <h1>Settings: {tenant.name}</h1>
      <nav aria-label="Sections">
        {SECTIONS.map((each) => (
          <NavLink key={each.path} to={`/settings/${each.path}${query}`}>
            {each.title}
          </NavLink>
        ))}
      </nav>
      <div>{shown.content(tenant.slug)}</div>
    </Page>
  );
}
