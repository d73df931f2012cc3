/** From "I have a domain" to everything published, seen by every resolver and verified, on one page. */
import styled from 'styled-components';
import {usePlan} from './queries';
import {Card} from '../../design/Card';
import {Loading, Trouble} from '../../design/Notice';
import {colour, space} from '../../design/tokens';
import {StreamSettings} from '../domains/StreamsView';
import {ChoicesCard, KeyCard, SpfCostCard} from './ChoicesCard';
import {PlanCard} from './PlanCard';
import {StsCard} from './StsCard';
import {ProofCard} from './ProofCard';
import {PublishCard} from './PublishCard';
import {RelaysCard} from './RelaysCard';
import {WatchCard} from './WatchCard';
import {sentence} from './words';
import {Needs} from '../../design/may';

const Page = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 400px;
  gap: ${space.l} ${space.xl};
  align-items: start;
  @media (max-width: 1100px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;
const Column = styled.div`
  display: grid;
  gap: ${space.l};
  min-width: 0;
  align-content: start;
`;
const Said = styled.p`
  grid-column: 1 / -1;
  margin: 0;
  color: ${colour('soft')};
  b {
    color: ${colour('ink')};
    font-weight: 600;
  }
`;

export function SetUpView({tenant, name}: {tenant: string; name: string}) {
  const plan = usePlan(tenant, name);
  if (plan.isPending) return <Loading what="the plan and the published records" />;
  if (plan.error) return <Trouble error={plan.error} again={() => void plan.refetch()} />;
  const said = sentence(plan.data);
  const replan = () => void plan.refetch();
  return (
    <Page>
      <Said role="status">
        <b>{said.strong}</b> {said.rest}
      </Said>
      <Column>
        {plan.data.records.length > 0 && <PlanCard plan={plan.data} onCheck={replan} busy={plan.isFetching} />}
        {plan.data.sts_policy && <StsCard tenant={tenant} name={name} />}
        <StreamSettings tenant={tenant} name={name} onChanged={replan} />
        <RelaysCard tenant={tenant} />
      </Column>
      <Column>
        <WatchCard tenant={tenant} name={name} />
        <ProofCard tenant={tenant} name={name} />
        <Needs least="admin">
          <PublishCard tenant={tenant} name={name} zone={plan.data.zone} />
        </Needs>
        <SpfCostCard tenant={tenant} plan={plan.data} />
        <ChoicesCard key={JSON.stringify(plan.data.settings)} tenant={tenant} plan={plan.data} />
        <KeyCard tenant={tenant} name={name} />
        {plan.data.advice.length > 0 && (
          <Card title="Notes">
            {plan.data.advice.map((each) => (
              <p key={each.title} style={{margin: '0 0 8px', fontSize: 13}}>
                <b style={{fontWeight: 600}}>{each.title}.</b> {each.why}.
              </p>
            ))}
          </Card>
        )}
      </Column>
    </Page>
  );
}
