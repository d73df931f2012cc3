/** Warm-up: the plans of a tenant, how far each provider has come today, and lists cut to fit. */
import {useState} from 'react';
import {Button} from '../../design/Button';
import {Card} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Stack} from '../../design/Stack';
import {useView} from '../../shell/view';
import {CutCard} from './CutCard';
import {PlanCard} from './PlanCard';
import {PlanForm} from './PlanForm';
import {usePlans} from './queries';

export function WarmupView({tenant}: {tenant: string}) {
  const view = useView();
  const plans = usePlans(tenant);
  const [adding, setAdding] = useState(false);
  if (plans.isPending) return <Loading what="warm-up plans" />;
  if (plans.error) return <Trouble error={plans.error} again={() => void plans.refetch()} />;
  const plan = plans.data.find((each) => each.name === view.get('plan')) ?? plans.data[0];
  const add = (
    <Button changes needs="operator" onPress={() => setAdding(!adding)}>
      {adding ? 'Cancel' : 'Add a plan'}
    </Button>
  );
  return (
    <Stack>
      {(adding || !plan) && (
        <Card title="New plan" note="ceilings that grow in steps, at each mailbox provider by itself" actions={add}>
          {!plan && !adding && (
            <Notice title="No warm-up plans yet">
              A new domain, stream, relay or address has to grow in steps: mailbox providers distrust sudden mail from a
              sender that they do not know. A plan says how much may go today, and takes the next step only where the
              present one was used and the provider was content.
            </Notice>
          )}
          {adding && (
            <PlanForm
              tenant={tenant}
              onDone={(name) => {
                setAdding(false);
                view.go('plan', name);
              }}
            />
          )}
        </Card>
      )}
      {plan && (
        <>
          <PlanCard
            tenant={tenant}
            plan={plan}
            actions={
              <>
                {plans.data.length > 1 && (
                  <Choice
                    label="Plan"
                    value={plan.name}
                    options={plans.data.map((each) => ({value: each.name, label: `${each.name}, ${each.state}`}))}
                    onChange={(value) => view.go('plan', value)}
                  />
                )}
                {!adding && add}
              </>
            }
          />
          <CutCard tenant={tenant} plan={plan.name} />
        </>
      )}
    </Stack>
  );
}
