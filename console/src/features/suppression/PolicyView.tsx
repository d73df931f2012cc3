/** The policy: what events make of an address, rule by rule; changed, and tried on the past before it is kept. */
import {useState} from 'react';
import type {Schemas} from '../../api/client';
import {AddressStorage} from './AddressStorage';
import {usePutPolicy, useSuppressionPolicy, useTryPolicy} from './queries';
import {useRunJob, useJob} from '../jobs/queries';
import {Button} from '../../design/Button';
import {Card, Small} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {Confirm} from '../../design/Confirm';
import {DataTable, type Column} from '../../design/DataTable';
import {JsonFile} from '../../design/JsonFile';
import {count, percent, time, words} from '../../design/format';
import {Loading, Trouble} from '../../design/Notice';
import {Row, Stack} from '../../design/Stack';
import {JobState} from './JobState';
import {does, Text, when} from './policy';
import {PolicyEditor} from './PolicyEditor';
import {Needs} from '../../design/may';

type Policy = Schemas['SuppressionPolicy'];
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
const DAYS = ['30', '90', '180', '365'].map((value) => ({value, label: `Last ${value} days`}));

export function PolicyView({tenant}: {tenant: string}) {
  const policy = useSuppressionPolicy(tenant);
  const put = usePutPolicy(tenant);
  const [draft, setDraft] = useState<Policy | null>(null);
  const [days, setDays] = useState('180');
  const trial = useTryPolicy(tenant);
  const shown = policy.data?.policy;
  const take = (value: unknown) => {
    const found = value as Policy;
    if (!Array.isArray(found?.rules)) throw new Error('A policy has a list of rules: export one to see its form.');
    setDraft({rules: found.rules, proposals: {...policy.data!.policy.proposals!, ...found.proposals}});
  };
  return (
    <Stack>
      <Card
        title="Suppression policy"
        note={
          policy.data
            ? policy.data.is_default
              ? 'default policy; the first matching rule applies'
              : `changed ${time(policy.data.changed_at!)} by ${policy.data.changed_by}`
            : ''
        }
        actions={
          policy.data && (
            <Row>
              <JsonFile what="policy" file={`policy-${tenant}.json`} value={draft ?? shown} onRead={take} />
              {!policy.data.is_default && (
                <Confirm
                  label="Restore default"
                  title="Restore the default policy?"
                  action="Restore"
                  onConfirm={() => put.mutate(null, {onSuccess: () => setDraft(null)})}
                >
                  Your own rules are discarded. Entries on the list do not change.
                </Confirm>
              )}
              {!draft && (
                <Button changes onPress={() => setDraft(shown!)}>
                  Edit
                </Button>
              )}
            </Row>
          )
        }
      >
        {policy.isPending && <Loading what="the policy" />}
        {policy.error && <Trouble error={policy.error} />}
        {shown && !draft && (
          <>
            <DataTable
              label="Rules"
              columns={[
                {name: 'Rule', value: (row: Rule) => row.name},
                {name: 'When', value: when, show: (row) => <Text>{when(row)}</Text>},
                {name: 'Action', value: does, show: (row) => <Text>{does(row)}</Text>},
                {
                  name: 'Advised wait',
                  value: (row) => (row.wait_hours ?? []).join(' '),
                  show: (row) =>
                    (row.wait_hours ?? []).length
                      ? `wait ${row.wait_hours!.map((hours) => (hours >= 24 ? `${hours / 24} d` : `${hours} h`)).join(', ')}`
                      : '',
                },
              ]}
              rows={shown.rules}
              id={(row) => row.name}
              file={`policy-${tenant}.csv`}
            />
            <p>
              <Small>{proposed(shown.proposals)}</Small>
            </p>
          </>
        )}
        {draft && (
          <>
            <PolicyEditor policy={draft} onChange={setDraft} />
            <Row style={{marginTop: 16, alignItems: 'end'}}>
              <Choice field label="Backtest period" value={days} options={DAYS} onChange={setDays} />
              <Button
                changes
                onPress={() => trial.mutate({policy: draft, days: Number(days)})}
                isDisabled={trial.isPending}
              >
                Backtest
              </Button>
              <Button
                tone="main"
                onPress={() => put.mutate(draft, {onSuccess: () => setDraft(null)})}
                isDisabled={put.isPending}
              >
                Save
              </Button>
              <Button onPress={() => setDraft(null)}>Cancel</Button>
              <Small>Nothing changes until you save. Existing entries stay as they are.</Small>
            </Row>
          </>
        )}
        {put.error && <Trouble error={put.error} />}
        {trial.error && <Trouble error={trial.error} />}
        {trial.data && <Trial tenant={tenant} id={trial.data.id} />}
      </Card>
      <Needs least="admin">
        <AddressStorage tenant={tenant} />
      </Needs>
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
            label="Backtest result"
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
