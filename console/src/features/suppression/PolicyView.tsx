/** The policy: what events make of an address, rule by rule; changed, and tried on the past before it is kept. */
import {useState} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {usePutPolicy, useSuppressionPolicy, useTryPolicy} from './queries';
import {useRunJob, useJob} from '../jobs/queries';
import {Button} from '../../design/Button';
import {Card, Small} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {Confirm} from '../../design/Confirm';
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
const DAYS = ['30', '90', '180', '365'].map((value) => ({value, label: `Last ${value} days`}));

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
  if (rule.act === 'nothing') return 'nothing: says nothing about the address';
  if (rule.act === 'wait') return 'no hold; advises when to retry';
  const what = rule.act === 'propose' ? 'propose' : 'holds';
  const whom = rule.whole_domain ? 'the whole domain' : 'the address';
  const after =
    (rule.times ?? 1) > 1
      ? ` after ${rule.times} messages over ${rule.over_days} days with no delivery between`
      : ' immediately';
  const long = rule.for_days
    ? ` for ${rule.for_days} days${(rule.longer ?? 1) > 1 ? `, ${rule.longer} times as long after each return` : ''}`
    : ', no end';
  const far = rule.scope === 'tenant' ? '' : `, for the ${rule.scope} only`;
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
        title="Suppression policy"
        note={
          policy.data
            ? policy.data.shipped
              ? 'default policy; the first matching rule applies'
              : `changed ${time(policy.data.changed_at!)} by ${policy.data.changed_by}`
            : ''
        }
        actions={
          policy.data && !policy.data.shipped ? (
            <Confirm
              label="Restore default"
              title="Restore the default policy?"
              action="Restore"
              onConfirm={() => put.mutate(null, {onSuccess: () => setText(null)})}
            >
              Your own rules are discarded. Entries on the list do not change.
            </Confirm>
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
      <Card title="Edit policy" note="run a dry run first: nothing changes until you save">
        <Field label="Policy as JSON" mono lines={14} value={shown} onChange={setText} style={{width: '100%'}} />
        <Row style={{marginTop: 8}}>
          <Choice label="Period" value={days} options={DAYS} onChange={setDays} />
          <Button tone="main" onPress={attempt} isDisabled={trial.isPending || !shown}>
            Dry run
          </Button>
          <Button onPress={keep} isDisabled={put.isPending || text === null}>
            Save
          </Button>
          {text !== null && <Button onPress={() => setText(null)}>Cancel</Button>}
        </Row>
        {bad && <Notice title="Not valid JSON">{bad}</Notice>}
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
      ? `addresses mailed ${proposals.no_life_sends} times over ${proposals.no_life_days} days without an open or click`
      : '',
    proposals.role_addresses ? 'role addresses' : '',
    proposals.revived_after_days
      ? `mailboxes that did not exist and accept mail again after ${proposals.revived_after_days} days (possible traps)`
      : '',
  ].filter(Boolean);
  return parts.length
    ? `Proposed once a day: ${parts.join('; ')}. Proposals hold nothing until you accept them.`
    : 'No proposals.';
}

function Trial({tenant, id}: {tenant: string; id: number}) {
  const job = useJob(tenant, id);
  const run = useRunJob(tenant);
  const found = job.data?.result as unknown as Partial<Tried> | undefined;
  const columns: Column<Line>[] = [
    {name: 'Event', value: (row) => words(row.label || row.name)},
    {name: 'Held', value: (row) => row.held, show: (row) => count(row.held), number: true},
    {
      name: 'Wrongly held',
      value: (row) => row.wrongly,
      show: (row) => `${count(row.wrongly)}${row.held ? ` (${percent(row.wrongly / row.held)})` : ''}`,
      number: true,
    },
    {
      name: 'Bounces avoided',
      value: (row) => row.bounces_spared,
      show: (row) => `${count(row.bounces_spared)} of ${count(row.bounces)}`,
      number: true,
    },
    {
      name: 'Complaints avoided',
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
            On {count(found.recipients ?? 0)} recipients with problems it would have held{' '}
            <b>{count(found.ours.held)}</b>, {count(found.ours.wrongly)} of them wrongly (later mail was delivered), and
            avoided {count(found.ours.bounces_spared)} bounces. Current policy: {count(found.holding.held)} held,{' '}
            {count(found.holding.wrongly)} wrongly, {count(found.holding.bounces_spared)} bounces avoided.
          </p>
          <DataTable
            label="Dry run result"
            columns={columns}
            rows={[
              {...found.ours, name: 'tried', label: 'Edited policy'},
              {...found.holding, name: 'holds', label: 'Current policy'},
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
