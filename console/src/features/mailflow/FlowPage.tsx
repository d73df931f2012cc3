import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useDomains, useFlow} from '../../api/queries';
import {Card} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {DataTable} from '../../design/DataTable';
import {count, firstDay, words} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {space} from '../../design/tokens';
import {useView} from '../../shell/view';
import {ProvidersTable} from './ProvidersTable';

type Cause = Schemas['CauseRow'];

const Page = styled.div`display: grid; gap: ${space.l};`;
const Head = styled.div`display: flex; flex-wrap: wrap; gap: ${space.s} ${space.l}; align-items: center;`;

export function FlowPage({who}: {who: Schemas['Who']}) {
  const view = useView();
  const tenant = view.tenant || who.tenants[0]!.slug;
  const domain = view.get('domain');
  const domains = useDomains(tenant);
  const flow = useFlow(tenant, firstDay(view.days), domain || undefined);
  return (
    <Page>
      <Head>
        <h1>Mail flow</h1>
        <Choice
          label="Domain"
          value={domain || 'all'}
          options={[
            {value: 'all', label: 'All domains'},
            ...(domains.data?.items ?? []).map((each) => ({value: each.name, label: each.name})),
          ]}
          onChange={(value) => view.set('domain', value === 'all' ? '' : value)}
        />
      </Head>
      {flow.isPending && <Loading what="mail flow" />}
      {flow.error && <Trouble error={flow.error} again={() => void flow.refetch()} />}
      {flow.data && flow.data.providers.length === 0 && (
        <Notice title="No mail in this period">Load events, or choose a longer period above.</Notice>
      )}
      {flow.data && flow.data.providers.length > 0 && (
        <>
          <Card
            title="By mailbox provider"
            note={`last ${view.days} days beside the ${view.days} before; rates with their 95 % interval`}
          >
            <ProvidersTable flow={flow.data} file={`flow-${tenant}.csv`} />
          </Card>
          <Card title="Why mail bounced or waited" note="causes of bounces and delays in this period">
            <DataTable
              label="Causes"
              columns={[
                {name: 'Cause', value: (row: Cause) => words(row.cause)},
                {name: 'Final', value: (row) => row.permanent, show: (row) => count(row.permanent), number: true},
                {name: 'Tried again', value: (row) => row.transient, show: (row) => count(row.transient), number: true},
              ]}
              rows={flow.data.causes}
              id={(row) => row.cause}
              file={`causes-${tenant}.csv`}
            />
          </Card>
        </>
      )}
    </Page>
  );
}
