/** How long events and placement runs are stored, and how sensitive the detection of shifts is. */
import {useState, type FormEvent} from 'react';
import type {Schemas} from '../../api/client';
import {useChangeFlowSettings, useFlowSettings} from '../mailflow/queries';
import {Button} from '../../design/Button';
import {Card, Small} from '../../design/Card';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {Loading, Trouble} from '../../design/Notice';

export function RetentionCard({tenant}: {tenant: string}) {
  const settings = useFlowSettings(tenant);
  return (
    <Card title="Data retention" note="events are deleted after this time; counters stay">
      {settings.isPending && <Loading what="settings" />}
      {settings.error && <Trouble error={settings.error} />}
      {settings.data && <Settings key={JSON.stringify(settings.data)} tenant={tenant} saved={settings.data} />}
    </Card>
  );
}

function Settings({tenant, saved}: {tenant: string; saved: Schemas['FlowSettings']}) {
  const change = useChangeFlowSettings(tenant);
  const [days, setDays] = useState(String(saved.keep_events_days));
  const [runs, setRuns] = useState(String(saved.keep_placement_days));
  const [alarms, setAlarms] = useState(String(saved.false_alarms_a_year));
  const submit = (event: FormEvent) => {
    event.preventDefault();
    change.mutate({
      keep_events_days: Number(days),
      keep_placement_days: Number(runs),
      false_alarms_a_year: Number(alarms),
    });
  };
  return (
    <>
      <FormGrid onSubmit={submit}>
        <Field
          label="Event retention, days"
          hint="30 to 3650; older events are deleted within minutes, and rejected on import"
          value={days}
          onChange={setDays}
          isRequired
        />
        <Field
          label="Placement run retention, days"
          hint="7 to 3650; older runs are deleted once a day"
          value={runs}
          onChange={setRuns}
          isRequired
        />
        <Field
          label="Acceptable false shifts per year"
          hint="fewer: fewer false alarms, but later; more: earlier"
          value={alarms}
          onChange={setAlarms}
          isRequired
        />
        <footer>
          <Button type="submit" tone="main" isDisabled={change.isPending}>
            Save
          </Button>
          {change.isSuccess && <Small role="status">Saved.</Small>}
        </footer>
      </FormGrid>
      {change.error && <Trouble error={change.error} />}
    </>
  );
}
