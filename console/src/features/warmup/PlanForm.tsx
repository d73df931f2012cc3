/** A new plan: whose mail, from how much to how much, by when, and in which hours; its steps are shown while one types. */
import {useState, type FormEvent} from 'react';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Small} from '../../design/Card';
import {CheckField} from '../../design/CheckField';
import {Choice} from '../../design/Choice';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {count, day} from '../../design/format';
import {Trouble} from '../../design/Notice';
import {useDomains} from '../domains/queries';
import {useFlowNames} from '../mailflow/queries';
import {useAddPlan, usePreview} from './queries';

type Shape = Schemas['WarmupTiming']['shape'];
const SHAPES: {value: NonNullable<Shape>; label: string}[] = [
  {value: 'even', label: 'Even: the same factor each day'},
  {value: 'careful', label: 'Careful: slower at first'},
  {value: 'straight', label: 'Straight: the same number more each day'},
  {value: 'custom', label: 'Custom: your own ceilings'},
];
const SUBJECTS = ['domain', 'stream', 'relay', 'sending_ip'] as const;
type Subject = (typeof SUBJECTS)[number];
const SUBJECT_NAMES = {domain: 'Domain', stream: 'Stream', relay: 'Relay', sending_ip: 'Sending address'} as const;

/** Whole numbers out of "50, 100 200". */
export const numbersIn = (text: string): number[] =>
  text
    .split(/[\s,;]+/)
    .filter(Boolean)
    .map(Number)
    .filter((each) => Number.isInteger(each) && each >= 0);

/** The hours of "8-19" or "9, 12, 15". */
export function hoursIn(text: string): number[] {
  const found = text.split(/[\s,;]+/).flatMap((part) => {
    const range = /^(\d{1,2})-(\d{1,2})$/.exec(part);
    if (!range) return numbersIn(part);
    const [from, to] = [Number(range[1]), Number(range[2])];
    return from <= to && to < 24 ? Array.from({length: to - from + 1}, (_, i) => from + i) : [];
  });
  return [...new Set(found)].filter((each) => each < 24).sort((a, b) => a - b);
}

export function PlanForm({tenant, onDone}: {tenant: string; onDone: (name: string) => void}) {
  const add = useAddPlan(tenant);
  const domains = useDomains(tenant);
  const names = useFlowNames(tenant);
  const [name, setName] = useState('');
  const [subject, setSubject] = useState<Subject>('domain');
  const [value, setValue] = useState('');
  const [from, setFrom] = useState('');
  const [shape, setShape] = useState<NonNullable<Shape>>('even');
  const [start, setStart] = useState('50');
  const [target, setTarget] = useState('5000');
  const [days, setDays] = useState('28');
  const [ceilings, setCeilings] = useState('');
  const [begins, setBegins] = useState(new Date().toISOString().slice(0, 10));
  const [hours, setHours] = useState('8-19');
  const [zone, setZone] = useState(Intl.DateTimeFormat().resolvedOptions().timeZone ?? 'UTC');
  const [hold, setHold] = useState(true);
  const [skip, setSkip] = useState(false);
  const custom = shape === 'custom';
  const settings = {
    shape,
    hours: hoursIn(hours).length ? hoursIn(hours) : [0],
    time_zone: zone.trim() || 'UTC',
    starts_on: begins || null,
    ...(custom
      ? {ceilings: numbersIn(ceilings)}
      : {start: Number(start) || 1, target: Number(target) || null, days: Number(days) || 2}),
  } as Schemas['WarmupTiming'];
  const moving = subject === 'relay' && from;
  const preview = usePreview(tenant, settings);
  const known = {
    domain: (domains.data?.items ?? []).map((each) => each.name),
    stream: names.data?.streams ?? [],
    relay: names.data?.relays ?? [],
    sending_ip: names.data?.ips ?? [],
  }[subject].filter(Boolean);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const plan = {
      ...settings,
      ...(moving && !target ? {target: null} : {}),
      name: name.trim(),
      [subject]: value.trim(),
      move_from: moving ? from : '',
      hold_back: hold,
      skip,
    };
    add.mutate(plan, {onSuccess: () => onDone(name.trim())});
  };
  return (
    <FormGrid onSubmit={submit} needs="operator">
      <Field label="Name" hint="a-z, 0-9 and hyphens" mono value={name} onChange={setName} />
      <Choice
        field
        label="Plan for a new"
        value={subject}
        options={SUBJECTS.map((each) => ({value: each, label: SUBJECT_NAMES[each]}))}
        onChange={(chosen) => {
          setSubject(chosen as Subject);
          setValue('');
        }}
      />
      <Field
        label={SUBJECT_NAMES[subject]}
        hint={known.length ? `such as ${known.slice(0, 3).join(', ')}` : 'its mail need not have begun'}
        mono
        value={value}
        onChange={setValue}
      />
      {subject === 'relay' && (
        <Choice
          field
          label="Moving from"
          value={from}
          options={[
            {value: '', label: 'No other relay'},
            ...(names.data?.relays ?? []).filter(Boolean).map((each) => ({value: each, label: each})),
          ]}
          onChange={setFrom}
        />
      )}
      <Choice
        field
        label="Shape"
        value={shape}
        options={SHAPES}
        onChange={(chosen) => setShape(chosen as NonNullable<Shape>)}
      />
      {custom ? (
        <Field
          label="Ceilings"
          hint="messages a day, step by step, such as 50, 100, 250"
          value={ceilings}
          onChange={setCeilings}
        />
      ) : (
        <>
          <Field label="First day" hint="messages" value={start} onChange={setStart} />
          <Field
            label="Target"
            hint={moving ? 'messages a day; empty: the busiest day of the old relay' : 'messages a day'}
            value={target}
            onChange={setTarget}
          />
          <Field label="Steps" hint="one a day if nothing is held back" value={days} onChange={setDays} />
        </>
      )}
      <Field label="Begins" type="date" hint="day in UTC" value={begins} onChange={setBegins} />
      <Field label="Hours" hint="in which mail goes out, such as 8-19" value={hours} onChange={setHours} />
      <Field label="Time zone" value={zone} onChange={setZone} />
      <CheckField label="Clearance holds mail back beyond a ceiling" isSelected={hold} onChange={setHold} />
      <CheckField
        label="Skip a step when every rate is certainly below its line"
        isSelected={skip}
        onChange={setSkip}
      />
      <div data-wide>
        {preview.data && !preview.error && <Steps preview={preview.data} />}
        {preview.error && !(moving && !target) && <Small>{preview.error.message}</Small>}
      </div>
      <footer>
        <Button type="submit" tone="main" isDisabled={add.isPending || !name.trim() || !value.trim()}>
          Add
        </Button>
      </footer>
      {add.error && (
        <div data-wide>
          <Trouble error={add.error} />
        </div>
      )}
    </FormGrid>
  );
}

function Steps({preview}: {preview: Schemas['WarmupPreview']}) {
  const {steps} = preview;
  const shown = steps.length > 14 ? [...steps.slice(0, 10), null, ...steps.slice(-3)] : steps;
  return (
    <p>
      <b>
        {day(preview.starts_on)} to {day(preview.ends_on)}:
      </b>{' '}
      {shown.map((each) => (each === null ? '…' : count(each))).join(' → ')}{' '}
      <Small>messages a day, at most {count(preview.per_hour.at(-1)!)} an hour at the end</Small>
    </p>
  );
}
