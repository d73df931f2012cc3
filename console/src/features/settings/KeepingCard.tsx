/** How long events are kept, and how often a shift may be reported that is none. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useChangeFlowSettings, useFlowSettings} from '../mailflow/queries';
import {Button} from '../../design/Button';
import {Card, Small} from '../../design/Card';
import {Field} from '../../design/Field';
import {Loading, Trouble} from '../../design/Notice';
import {space} from '../../design/tokens';

const Form = styled.form`
  display: grid;
  gap: ${space.m};
  grid-template-columns: repeat(auto-fill, minmax(240px, 1fr));
  align-items: start;
  > button {
    justify-self: start;
    margin-top: 20px;
  }
`;

export function KeepingCard({tenant}: {tenant: string}) {
  const settings = useFlowSettings(tenant);
  return (
    <Card title="Events" note="counters are kept without end; events as long as you say">
      {settings.isPending && <Loading what="settings" />}
      {settings.error && <Trouble error={settings.error} />}
      {settings.data && <Keeping key={JSON.stringify(settings.data)} tenant={tenant} kept={settings.data} />}
    </Card>
  );
}

function Keeping({tenant, kept}: {tenant: string; kept: Schemas['FlowSettings']}) {
  const change = useChangeFlowSettings(tenant);
  const [days, setDays] = useState(String(kept.keep_events_days));
  const [alarms, setAlarms] = useState(String(kept.false_alarms_a_year));
  const submit = (event: FormEvent) => {
    event.preventDefault();
    change.mutate({keep_events_days: Number(days), false_alarms_a_year: Number(alarms)});
  };
  return (
    <>
      <Form onSubmit={submit}>
        <Field
          label="Keep events for, days"
          hint="30 to 3650; older ones are dropped within a minute or so, and refused from then"
          value={days}
          onChange={setDays}
          isRequired
        />
        <Field
          label="Shifts a year that may be none"
          hint="less is calmer and later, more is earlier"
          value={alarms}
          onChange={setAlarms}
          isRequired
        />
        <Button type="submit" tone="main" isDisabled={change.isPending}>
          Keep these settings
        </Button>
      </Form>
      {change.isSuccess && <Small role="status">Kept.</Small>}
      {change.error && <Trouble error={change.error} />}
    </>
  );
}
