/** The policy: what events make of an address, rule by rule; changed, and tried on the past before it is kept. */
import {useState} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {usePutPolicy, useSuppressionPolicy, useTryPolicy} from './queries';
import {useRunJob, useJob} from '../jobs/queries';
import {Button} from '../../design/Button';
import {Card, Small} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {DataTable, type Column} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {count, percent, time, words} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {space} from '../../design/tokens';
import {JobState} from './JobState';

type Rule = Schemas['PolicyRule'];
interface Line {
  name: string;
  label: string;
  held: number;
  wrongly: number;
  bounces_spared: number;
  bounces: number;
  complaints_spared: number;
  complaints: number;
  deliveries_lost: number;
}
interface Tried {
  recipients: number;
  ours: Line;
  holding: Line;
  providers: Line[];
  reasons: Line[];
}
const Stack = styled.div`
  display: grid;
  gap: ${space.m};
  grid-template-columns: minmax(0, 1fr);
`;
const Wrap = styled.span`
  white-space: normal;
  display: block;
  min-width: 24ch;
`;
const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s};
  align-items: end;
`;
const DAYS = ['30', '90', '180', '365'].map((value) => ({value, label: `On the last ${value} days`}));

/** When a rule acts, in words. */
export function when(rule: Rule): string {
  const kinds = rule.kinds?.length ? rule.kinds.map(words).join(', ') : 'any event';
  const causes = rule.causes?.length ? `: ${rule.causes.map(words).join(', ')}` : '';
  const lasting = rule.permanence ? `, ${rule.permanence}` : '';
  const where = [
    ...(rule.streams?.length ? [`on ${rule.streams.join(', ')}`] : []),
    ...(rule.providers?.length ? [`at ${rule.providers.join(', ')}`] : []),
  ].join(' ');
  return `${kinds}${causes}${lasting}${where ? ` ${where}` : ''}`;
}

/** What it does, in words. */
export function does(rule: Rule): string {
  if (rule.act === 'nothing') return 'nothing: it does not speak of the address';
  if (rule.act === 'wait') return 'holds nothing; advises when to try again';
  const what = rule.act === 'propose' ? 'proposes to hold' : 'holds';
  const whom = rule.whole_domain ? 'the whole domain' : 'the address';
  const after =
    (rule.times ?? 1) > 1
      ? ` after ${rule.times} messages over ${rule.over_days} days with no delivery between`
      : ' at once';
  const long = rule.for_days
    ? ` for ${rule.for_days} days${(rule.longer ?? 1) > 1 ? `, ${rule.longer} times as long at each return` : ''}`
    : ', no end';
  const far = rule.scope === 'tenant' ? '' : `, for its ${rule.scope} alone`;
  const ends = rule.ends_with_delivery ? '; a delivery ends it' : '';
  return `${what} ${whom}${after}${long}${far}${ends}`;
}

export function PolicyView({tenant}: {tenant: string}) {
  const policy = useSuppressionPolicy(tenant);
  const put = usePutPolicy(tenant);
  const [text, setText] = useState<string | null>(null);
  const [bad, setBad] = useState('');
  const [days, setDays] = useState('180');
  const trial = useTryPolicy(tenant);
  const shown = text ?? (policy.data ? JSON.stringify(policy.data.policy, null, 1) : '');
  const read = (): Schemas['SuppressionPolicy'] | null => {
    try {
      const found = JSON.parse(shown) as Schemas['SuppressionPolicy'];
      setBad('');
      return found;
    } catch (error) {
      setBad((error as Error).message);
      return null;
    }
  };
  const attempt = () => {
    const found = read();
    if (found) trial.mutate({policy: found, days: Number(days)});
  };
  const keep = () => {
    const found = read();
    if (found) put.mutate(found, {onSuccess: () => setText(null)});
  };
  return (
    <Stack>
      <Card
        title="What events make of an address"
        note={
          policy.data
            ? policy.data.shipped
              ? 'the shipped policy; the first rule that fits decides'
              : `your own, since ${time(policy.data.changed_at!)} by ${policy.data.changed_by}`
            : ''
        }
        actions={
          policy.data && !policy.data.shipped ? (
            <Button onPress={() => put.mutate(null, {onSuccess: () => setText(null)})}>Back to the shipped one</Button>
          ) : undefined
        }
      >
        {policy.isPending && <Loading what="the policy" />}
        {policy.error && <Trouble error={policy.error} />}
        {policy.data && (
          <>
            <DataTable
              label="Rules"
              columns={[
                {name: 'Rule', value: (row: Rule) => row.name},
                {name: 'When', value: when, show: (row) => <Wrap>{when(row)}</Wrap>},
                {name: 'It', value: does, show: (row) => <Wrap>{does(row)}</Wrap>},
                {
                  name: 'Until then',
                  value: (row) => (row.wait_hours ?? []).join(' '),
                  show: (row) =>
                    (row.wait_hours ?? []).length
                      ? `wait ${row.wait_hours!.map((hours) => (hours >= 24 ? `${hours / 24} d` : `${hours} h`)).join(', ')}`
                      : '',
                },
              ]}
              rows={policy.data.policy.rules}
              id={(row) => row.name}
              file={`policy-${tenant}.csv`}
            />
            <p>
              <Small>{proposed(policy.data.policy.proposals)}</Small>
            </p>
          </>
        )}
      </Card>
      <Card title="Change it" note="try it on the past first: nothing changes before you keep it">
        <Field label="The policy as JSON" mono lines={14} value={shown} onChange={setText} style={{width: '100%'}} />
        <Row style={{marginTop: 8}}>
          <Choice label="How far back" value={days} options={DAYS} onChange={setDays} />
          <Button tone="main" onPress={attempt} isDisabled={trial.isPending || !shown}>
            Try it on the past
          </Button>
          <Button onPress={keep} isDisabled={put.isPending || text === null}>
            Keep it
          </Button>
          {text !== null && <Button onPress={() => setText(null)}>Back to what holds</Button>}
        </Row>
        {bad && <Notice title="This is no JSON">{bad}</Notice>}
        {put.error && <Trouble error={put.error} />}
        {trial.error && <Trouble error={trial.error} />}
        {trial.data && <Trial tenant={tenant} id={trial.data.id} />}
      </Card>
    </Stack>
  );
}

function proposed(proposals: Schemas['ProposalSettings'] | undefined): string {
  if (!proposals) return '';
  const parts = [
    proposals.no_life_sends
      ? `addresses that were mailed ${proposals.no_life_sends} times over ${proposals.no_life_days} days without an open or click`
      : '',
    proposals.role_addresses ? 'role addresses' : '',
    proposals.revived_after_days
      ? `mailboxes that did not exist and take mail again after ${proposals.revived_after_days} days (traps)`
      : '',
  ].filter(Boolean);
  return parts.length
    ? `Once a day it proposes: ${parts.join('; ')}. A proposal holds nothing before you agree.`
    : 'Nothing is proposed.';
}

function Trial({tenant, id}: {tenant: string; id: number}) {
  const job = useJob(tenant, id);
  const run = useRunJob(tenant);
  const found = job.data?.result as unknown as Partial<Tried> | undefined;
  const columns: Column<Line>[] = [
    {name: 'What', value: (row) => words(row.label || row.name)},
    {name: 'Held', value: (row) => row.held, show: (row) => count(row.held), number: true},
    {
      name: 'Wrongly',
      value: (row) => row.wrongly,
      show: (row) => `${count(row.wrongly)}${row.held ? ` (${percent(row.wrongly / row.held)})` : ''}`,
      number: true,
    },
    {
      name: 'Bounces spared',
      value: (row) => row.bounces_spared,
      show: (row) => `${count(row.bounces_spared)} of ${count(row.bounces)}`,
      number: true,
    },
    {
      name: 'Complaints spared',
      value: (row) => row.complaints_spared,
      show: (row) => `${count(row.complaints_spared)} of ${count(row.complaints)}`,
      number: true,
    },
    {
      name: 'Deliveries lost',
      value: (row) => row.deliveries_lost,
      show: (row) => count(row.deliveries_lost),
      number: true,
    },
  ];
  return (
    <div style={{marginTop: 12}}>
      {job.data && <JobState job={job.data} run={run} />}
      {found?.ours && found.holding && (
        <>
          <p role="status">
            On {count(found.recipients ?? 0)} recipients with trouble it would have held <b>{count(found.ours.held)}</b>
            , {count(found.ours.wrongly)} of them wrongly (they took mail after all), and spared{' '}
            {count(found.ours.bounces_spared)} bounces. The policy that holds: {count(found.holding.held)} held,{' '}
            {count(found.holding.wrongly)} wrongly, {count(found.holding.bounces_spared)} bounces spared.
          </p>
          <DataTable
            label="What it would have done"
            columns={columns}
            rows={[
              {...found.ours, name: 'tried', label: 'As tried'},
              {...found.holding, name: 'holds', label: 'As it holds'},
              ...(found.providers ?? []),
              ...(found.reasons ?? []),
            ]}
            id={(row) => row.name}
            file={`policy-trial-${id}.csv`}
          />
        </>
      )}
    </div>
  );
}
