/** What a tenant sets once: who is told what happens, and which programs may ask, what is kept. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {space} from '../../design/tokens';
import {useView} from '../../shell/view';
import {AlertsCard} from './AlertsCard';
import {KeepingCard} from './KeepingCard';
import {PersonCard} from './PersonCard';
import {ReadingsCard} from './ReadingsCard';
import {TokensCard} from './TokensCard';
import {WebhooksCard} from './WebhooksCard';

const Page = styled.div`
  display: grid;
  gap: ${space.l};
  grid-template-columns: minmax(0, 1fr);
`;

export function SettingsPage({who}: {who: Schemas['Who']}) {
  const view = useView();
  const tenant = who.tenants.find((each) => each.slug === view.tenant) ?? who.tenants[0]!;
  return (
    <Page>
      <h1>Settings of {tenant.name}</h1>
      <AlertsCard key={tenant.slug} tenant={tenant.slug} />
      <ReadingsCard key={`${tenant.slug}-readings`} tenant={tenant.slug} />
      <WebhooksCard tenant={tenant.slug} />
      <TokensCard tenant={tenant.slug} />
      <KeepingCard tenant={tenant.slug} />
      <PersonCard tenant={tenant.slug} />
    </Page>
  );
}
