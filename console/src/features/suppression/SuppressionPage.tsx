/** Suppression: who is held and why, how the list grows, what to look at before a send, and the policy behind it. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useGrowth, useSuppressionCount} from './queries';
import {count, firstDay, percent} from '../../design/format';
import {Tabs} from '../../design/Tabs';
import {space} from '../../design/tokens';
import {useView} from '../../shell/view';
import {BeforeView} from './BeforeView';
import {GrowthView} from './GrowthView';
import {ListView} from './ListView';
import {PolicyView} from './PolicyView';
import {VerificationView} from '../verification/VerificationView';
import {UnsubscribesView} from './UnsubscribesView';
import {WaysView} from './WaysView';
import {Needs} from '../../design/may';

const Page = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr);
  gap: ${space.m};
`;

export function SuppressionPage({who}: {who: Schemas['Who']}) {
  const view = useView();
  const tenant = view.tenant || who.tenants[0]!.slug;
  const tab = view.get('view') || 'list';
  return (
    <Page>
      <h1>Suppression</h1>
      <Sentence tenant={tenant} />
      <Tabs
        label="Views of suppression"
        value={tab}
        onChange={(value) => view.go('view', value === 'list' ? '' : value)}
        tabs={[
          {id: 'list', title: 'List', content: () => <ListView tenant={tenant} />},
          {id: 'growth', title: 'Growth', content: () => <GrowthView tenant={tenant} />},
          {id: 'pre-send', title: 'Pre-send checks', content: () => <BeforeView tenant={tenant} />},
          {id: 'verifiers', title: 'Verifiers', content: () => <VerificationView tenant={tenant} />},
          {
            id: 'policy',
            title: 'Policy',
            content: () => (
              <Needs least="admin">
                <PolicyView tenant={tenant} />
              </Needs>
            ),
          },
          {id: 'unsubscribes', title: 'Unsubscribes', content: () => <UnsubscribesView tenant={tenant} />},
          {id: 'import-export', title: 'Import and export', content: () => <WaysView tenant={tenant} />},
        ]}
      />
    </Page>
  );
}

/** What matters first: how many are held, how that moves, what waits for a decision, what withholding spared. */
function Sentence({tenant}: {tenant: string}) {
  const held = useSuppressionCount(tenant, {state: ['held']});
  const proposed = useSuppressionCount(tenant, {state: ['proposed']});
  const growth = useGrowth(tenant, firstDay(30));
  if (!held.data || !growth.data) return null;
  const came = growth.data.days.reduce((sum, each) => sum + each.added, 0);
  const left = growth.data.days.reduce((sum, each) => sum + each.removed, 0);
  const {withheld, bounce_rate: rate, bounce_rate_without: without} = growth.data.saved;
  return (
    <p style={{margin: 0, maxWidth: '100ch'}}>
      <b>
        {held.data.more ? 'More than ' : ''}
        {count(held.data.count)} addresses held.
      </b>{' '}
      Last 30 days: {count(came)} added, {count(left)} removed.
      {withheld > 0 && rate != null && without != null && (
        <>
          {' '}
          {count(withheld)} messages withheld: the bounce rate is {percent(rate)}
          {without > rate ? `, without withholding it would be ${percent(without)}` : ''}.
        </>
      )}
      {proposed.data && proposed.data.count > 0 && (
        <>
          {' '}
          <b>{count(proposed.data.count)} proposals to review.</b>
        </>
      )}
    </p>
  );
}
