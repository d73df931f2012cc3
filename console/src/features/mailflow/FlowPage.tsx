/** Mail flow: per provider, causes, trails, comparison of two parts, warm-up, and feeds. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useDomains} from '../domains/queries';
import {useFlow, useFlowNames, type Which} from './queries';
import {Go} from '../../design/Button';
import {Card} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {firstDay} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Tabs} from '../../design/Tabs';
import {space} from '../../design/tokens';
import {useView} from '../../shell/view';
import {WarmupView} from '../warmup/WarmupView';
import {CausesView} from './CausesView';
import {CompareView} from './CompareView';
import {FlowChart} from './FlowChart';
import {ShiftsCard} from './ShiftsCard';
import {FeedsView} from './FeedsView';
import {ProvidersTable} from './ProvidersTable';
import {TrailsView} from './TrailsView';

const Page = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr);
  gap: ${space.m};
`;
const Head = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s} ${space.l};
  align-items: center;
`;
const PARTS = ['stream', 'relay', 'ip', 'campaign', 'tag'] as const;

/** What mail can be narrowed down to, as one list: `campaign=spring`. */
export function partOptions(names?: Schemas['FlowNames']) {
  const label = {stream: 'Stream', relay: 'Relay', ip: 'Address', campaign: 'Campaign', tag: 'Tag'} as const;
  const lists = {
    stream: names?.streams,
    relay: names?.relays,
    ip: names?.ips,
    campaign: names?.campaigns,
    tag: names?.tags,
  };
  return PARTS.flatMap((part) =>
    (lists[part] ?? []).map((name) => ({value: `${part}=${name}`, label: `${label[part]} ${name}`})),
  );
}

export function whichOf(domain: string, part: string): Which {
  const at = part.indexOf('=');
  const which: Which = {domain: domain || undefined};
  return at > 0 ? {...which, [part.slice(0, at)]: part.slice(at + 1)} : which;
}

export function FlowPage({who}: {who: Schemas['Who']}) {
  const view = useView();
  const tenant = view.tenant || who.tenants[0]!.slug;
  const domain = view.get('domain');
  const part = view.get('part');
  const tab = view.get('view') || 'providers';
  const domains = useDomains(tenant);
  const names = useFlowNames(tenant);
  const parts = partOptions(names.data);
  const which = whichOf(domain, part);
  return (
    <Page>
      <Head>
        <h1>Mail flow</h1>
        {tab !== 'feeds' && tab !== 'warmup' && (
          <Choice
            label="Domain"
            value={domain || 'all'}
            options={[
              {value: 'all', label: 'All domains'},
              ...(domains.data?.items ?? []).map((each) => ({value: each.name, label: each.name})),
            ]}
            onChange={(value) => view.go('domain', value === 'all' ? '' : value)}
          />
        )}
        {tab !== 'feeds' && tab !== 'warmup' && tab !== 'trails' && parts.length > 0 && (
          <Choice
            label="Part"
            value={part || 'all'}
            options={[{value: 'all', label: 'All mail'}, ...parts]}
            onChange={(value) => view.go('part', value === 'all' ? '' : value)}
          />
        )}
      </Head>
      <Tabs
        label="Views of mail flow"
        value={tab}
        onChange={(value) => view.go('view', value === 'providers' ? '' : value)}
        tabs={[
          {
            id: 'providers',
            title: 'Providers',
            content: () => <Providers tenant={tenant} days={view.days} which={which} />,
          },
          {id: 'causes', title: 'Causes', content: () => <CausesView tenant={tenant} days={view.days} which={which} />},
          {id: 'trails', title: 'Trails', content: () => <TrailsView tenant={tenant} domain={domain} />},
          {
            id: 'compare',
            title: 'Compare',
            content: () => (
              <CompareView
                tenant={tenant}
                days={view.days}
                which={which}
                parts={[
                  ...(domains.data?.items ?? []).map((each) => ({
                    value: `domain=${each.name}`,
                    label: `Domain ${each.name}`,
                  })),
                  ...parts,
                ]}
              />
            ),
          },
          {id: 'warmup', title: 'Warm-up', content: () => <WarmupView tenant={tenant} />},
          {id: 'feeds', title: 'Feeds', content: () => <FeedsView tenant={tenant} />},
        ]}
      />
    </Page>
  );
}

function Providers({tenant, days, which}: {tenant: string; days: number; which: Which}) {
  const flow = useFlow(tenant, firstDay(days), which);
  return (
    <Page>
      <ShiftsCard tenant={tenant} days={days} />
      {flow.isPending && <Loading what="mail flow" />}
      {flow.error && <Trouble error={flow.error} again={() => void flow.refetch()} />}
      {flow.data && flow.data.providers.length === 0 && (
        <Notice title="No mail in this period">
          What was delivered, bounced and complained about will be here, by mailbox provider. Events come by a feed; or
          choose a longer period.
          <Go to={`/flow?tenant=${tenant}&view=feeds`}>Add a feed</Go>
        </Notice>
      )}
      {flow.data && flow.data.providers.length > 0 && (
        <Card
          title="By mailbox provider"
          note={`last ${days} days compared with the ${days} before; rates with 95 % intervals`}
        >
          <ProvidersTable flow={flow.data} file={`flow-${tenant}.csv`} />
        </Card>
      )}
      {flow.data && flow.data.providers.length > 0 && (
        <FlowChart tenant={tenant} first={firstDay(days)} which={which} />
      )}
    </Page>
  );
}
