/** One plan: today's ceilings beside what was sent, how each step came about, and the course so far. */
import {useState, type FormEvent, type ReactNode} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Bar} from '../../design/Bar';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {Confirm} from '../../design/Confirm';
import {ChartView} from '../../design/ChartView';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {count, day} from '../../design/format';
import {Loading, Trouble} from '../../design/Notice';
import {HappenedKey, isStep, type Annotation} from '../../design/happened';
import {PlotName, Plots} from '../../design/Plots';
import {Row, Stack} from '../../design/Stack';
import {TimeChart} from '../../design/TimeChart';
import {useZoom} from '../../design/zoom';
import {useAnnotations} from '../readings/queries';
import {useChangePlan, useCourse, useDeletePlan, useOverrule} from './queries';

type Plan = Schemas['WarmupPlan'];
type Track = Schemas['WarmupTrack'];

const Wrap = styled.span`
  display: block;
  min-width: 26ch;
  white-space: normal;
`;

const TURNS = {start: 'begun', next: 'goes on', wait: 'waits', back: 'stepped back', set: 'set by a person'} as const;
const LEVELS = {start: 'note', next: 'right', wait: 'risk', back: 'fault', set: 'note'} as const;

/** How the step came about, in a word or two; the last step has none to go on to. */
const turn = (row: Track, plan: Plan): string =>
  row.turn === 'next' && row.step === plan.steps.length ? 'last step' : TURNS[row.turn];

/** The mail that a plan is about. */
export const mailOf = (plan: Plan): string =>
  [plan.domain, plan.stream && `stream ${plan.stream}`, plan.relay && `relay ${plan.relay}`, plan.sending_ip]
    .filter(Boolean)
    .join(', ');

/** What there is to know first. */
export function sentenceOf(plan: Plan): string {
  if (plan.state === 'planned') return `Begins on ${day(plan.starts_on)} with ${count(plan.per_day)} messages a day.`;
  if (plan.state === 'done') return 'Every provider has reached the last step; nothing is held back any more.';
  const held = plan.tracks.filter((each) => each.reasons.some((reason) => reason.line != null));
  const said = held.length
    ? ` Held back at ${held.map((each) => each.label).join(', ')}.`
    : ` The last step is due on ${day(plan.ends_on)} if nothing is held back.`;
  return `${count(plan.sent)} of ${count(plan.per_day)} messages were sent today.${said}`;
}

export function PlanCard({tenant, plan, actions}: {tenant: string; plan: Plan; actions?: ReactNode}) {
  const change = useChangePlan(tenant);
  const remove = useDeletePlan(tenant);
  const [overruling, setOverruling] = useState(false);
  const error = change.error ?? remove.error;
  const paused = plan.state === 'paused';
  return (
    <Stack>
      <Card
        title={plan.name}
        note={`${mailOf(plan)}${plan.move_from ? `, moving from ${plan.move_from}` : ''}; day in UTC`}
        actions={actions}
      >
        <p>
          <b>{sentenceOf(plan)}</b> {paused && <Tag level="note">paused</Tag>}{' '}
          <Soft>
            {count(plan.steps[0]!)} to {count(plan.steps.at(-1)!)} messages a day in {plan.steps.length} steps.{' '}
            {plan.hold_back
              ? 'Clearance answers later beyond a ceiling.'
              : 'Clearance does not hold mail back beyond a ceiling.'}
          </Soft>
        </p>
        <DataTable
          label="Today"
          file={`warmup-${plan.name}.csv`}
          rows={plan.tracks}
          id={(row) => row.provider}
          columns={[
            {name: 'Provider', value: (row) => row.label},
            {
              name: 'Step',
              value: (row) => row.step,
              show: (row) => (
                <>
                  {row.step} of {plan.steps.length} <Tag level={LEVELS[row.turn]}>{turn(row, plan)}</Tag>
                </>
              ),
            },
            {
              name: 'Sent today',
              about: {
                formula: 'What events say was sent, or what clearance let go if that is more.',
                source: 'Events of the mail that the plan names, and answers of clearance.',
                period: 'Since 00:00 UTC.',
              },
              value: (row) => row.sent,
              show: (row) => <Used track={row} />,
            },
            {name: 'Per day', value: (row) => row.per_day, show: (row) => count(row.per_day), number: true},
            {name: 'This hour', value: (row) => row.sent_this_hour, number: true},
            {name: 'Per hour', value: (row) => row.per_hour, show: (row) => count(row.per_hour), number: true},
            {
              name: 'Why',
              value: (row) => row.why,
              show: (row) => (
                <Wrap>
                  {row.why}
                  {row.decided_by && <Small> ({row.decided_by})</Small>}
                </Wrap>
              ),
            },
          ]}
        />
        {error && <Trouble error={error} />}
        <Row style={{marginTop: 10}}>
          <Button changes needs="operator" onPress={() => setOverruling(!overruling)}>
            {overruling ? 'Cancel' : 'Set a step'}
          </Button>
          {plan.state !== 'done' && (
            <Button changes needs="operator" onPress={() => change.mutate({name: plan.name, paused: !paused})}>
              {paused ? 'Resume' : 'Pause'}
            </Button>
          )}
          <Button changes needs="operator" onPress={() => change.mutate({name: plan.name, hold_back: !plan.hold_back})}>
            {plan.hold_back ? 'Do not hold mail back' : 'Hold mail back'}
          </Button>
          <Confirm
            label="Delete"
            needs="operator"
            title={`Delete the plan ${plan.name}?`}
            action="Delete"
            onConfirm={() => remove.mutate(plan.name)}
          >
            Its course goes with it, and clearance holds nothing back by it any more.
          </Confirm>
        </Row>
        {overruling && <Overrule tenant={tenant} plan={plan} onDone={() => setOverruling(false)} />}
      </Card>
      <Course tenant={tenant} plan={plan} />
    </Stack>
  );
}

function Used({track}: {track: Track}) {
  const share = track.sent / Math.max(1, track.per_day);
  return (
    <>
      <Bar share={share} of="of the ceiling" sign={share > 1 ? 'over' : undefined} /> {count(track.sent)}
    </>
  );
}

function Overrule({tenant, plan, onDone}: {tenant: string; plan: Plan; onDone: () => void}) {
  const overrule = useOverrule(tenant);
  const [provider, setProvider] = useState('');
  const [step, setStep] = useState('');
  const [reason, setReason] = useState('');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    overrule.mutate({name: plan.name, provider, step: Number(step) || 0, reason: reason.trim()}, {onSuccess: onDone});
  };
  const per = plan.steps[Number(step) - 1];
  return (
    <FormGrid onSubmit={submit} needs="operator" style={{marginTop: 12}}>
      <Choice
        field
        label="Provider"
        value={provider}
        options={[
          {value: '', label: 'All providers'},
          ...plan.tracks.map((each) => ({value: each.provider, label: `${each.label}, step ${each.step}`})),
        ]}
        onChange={setProvider}
      />
      <Field
        label="Step"
        hint={per ? `${count(per)} messages a day to all providers` : `1 to ${plan.steps.length}`}
        value={step}
        onChange={setStep}
      />
      <Field label="Reason" hint="recorded with the step" value={reason} onChange={setReason} />
      <footer>
        <Button type="submit" tone="main" isDisabled={overrule.isPending || !step || reason.trim().length < 3}>
          Save
        </Button>
        <Small>The step holds from today on; from tomorrow on the plan decides again.</Small>
      </footer>
      {overrule.error && (
        <div data-wide>
          <Trouble error={overrule.error} />
        </div>
      )}
    </FormGrid>
  );
}

function Course({tenant, plan}: {tenant: string; plan: Plan}) {
  const course = useCourse(tenant, plan.name);
  const all = course.data?.days ?? [];
  const zoom = useZoom([...new Set(all.map((each) => each.day))].sort());
  const found = useAnnotations(tenant, zoom.days[0] ?? plan.starts_on, plan.domain ?? undefined).data ?? [];
  const annotations = found.filter((each) => !isStep(each)); // the ceilings show them
  if (course.isPending) return <Loading what="the course of the plan" />;
  if (course.error) return <Trouble error={course.error} again={() => void course.refetch()} />;
  const days = all.filter((each) => zoom.shows(each.day));
  if (days.length === 0) return null;
  return (
    <Card title="Course" note="ceiling and messages sent by day, a scale for each provider">
      <ChartView
        label="Course of the plan"
        file={`warmup-days-${plan.name}`}
        rows={[...days].reverse()}
        zoom={zoom}
        id={(row) => `${row.day} ${row.provider}`}
        columns={[
          {name: 'Day', value: (row) => row.day},
          {name: 'Provider', value: (row) => row.label},
          {name: 'Step', value: (row) => row.step, number: true},
          {name: 'Ceiling', value: (row) => row.per_day, number: true},
          {name: 'Sent', value: (row) => row.sent, number: true},
          {name: 'Deferred', value: (row) => row.deferred, number: true},
          {name: 'Refused', value: (row) => row.refused, number: true},
          {name: 'Invalid', value: (row) => row.invalid, number: true},
          {
            name: 'Complaints',
            value: (row) => row.complaints ?? null,
            show: (row) => row.complaints ?? <Small>not reported</Small>,
            number: true,
          },
          {name: 'Why', value: (row) => row.why, show: (row) => <Wrap>{row.why}</Wrap>},
        ]}
      >
        <Plots>
          {plan.tracks.map((track) => (
            <Plot
              key={track.provider}
              label={track.label}
              held={track.reasons.some((reason) => reason.line != null)}
              days={days.filter((each) => each.provider === track.provider)}
              annotations={annotations.filter(({provider}) => !provider || provider === track.label)}
            />
          ))}
        </Plots>
        <HappenedKey annotations={annotations} first={zoom.first} last={zoom.last} />
      </ChartView>
    </Card>
  );
}

interface PlotProps {
  label: string;
  held: boolean;
  days: Schemas['WarmupDay'][];
  annotations: Annotation[];
}
function Plot({label, held, days, annotations}: PlotProps) {
  const top = Math.max(1, ...days.map((each) => Math.max(each.per_day, each.sent)));
  const last = days.at(-1);
  return (
    <div>
      <PlotName>
        <span data-chart-text>{label}</span> <Small>{held ? 'held back' : last ? `step ${last.step}` : ''}</Small>
      </PlotName>
      <TimeChart
        label={`${label}: ceiling and sent by day; the table has the figures`}
        days={days.map((each) => each.day)}
        height={110}
        scale={{high: top, ticks: [0, top], format: count}}
        annotations={annotations}
        curves={[
          {name: 'ceiling', values: days.map((each) => each.per_day), tone: 'soft', dashed: true, stepped: true},
          {name: 'sent', values: days.map((each) => each.sent), tone: held ? 'corroded' : 'sound', width: 2},
        ]}
        texts={(at) => [
          `${day(days[at]!.day)}: ${count(days[at]!.sent)} of ${count(days[at]!.per_day)}`,
          days[at]!.why,
        ]}
      />
    </div>
  );
}
