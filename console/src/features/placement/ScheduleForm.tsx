/** The settings of a schedule: when it runs, what it copies, to whom, and from when on it reports. */
import {useState, type FormEvent} from 'react';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Small} from '../../design/Card';
import {CheckField} from '../../design/CheckField';
import {Choice} from '../../design/Choice';
import {CopyButton} from '../../design/CopyButton';
import {Field} from '../../design/Field';
import {FilePicker} from '../../design/FilePicker';
import {FormGrid} from '../../design/Form';
import {Trouble} from '../../design/Notice';
import {Several} from '../../design/Several';
import {useTrays} from '../bench/queries';
import {useAddSchedule, useChangeSchedule, useHandIn, useOutlets, useSeeds} from './queries';

type Every = Schemas['Rhythm']['every'] | 'never';
const EVERY: {value: Every; label: string}[] = [
  {value: 'hourly', label: 'Every hour'},
  {value: 'daily', label: 'Every day'},
  {value: 'weekly', label: 'On weekdays'},
  {value: 'monthly', label: 'On days of the month'},
  {value: 'never', label: 'Only after changes'},
];
const WEEKDAYS = ['Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday', 'Sunday'].map((label, at) => ({
  value: String(at + 1),
  label,
}));

/** Whole numbers out of "9, 15" or "9 15". */
export const numbers = (text: string): number[] =>
  text
    .split(/[\s,]+/)
    .filter(Boolean)
    .map(Number)
    .filter(Number.isInteger);

export function ScheduleForm({
  tenant,
  saved,
  onDone,
}: {
  tenant: string;
  saved?: Schemas['Schedule'];
  onDone: () => void;
}) {
  const outlets = useOutlets(tenant).data ?? [];
  const seeds = useSeeds(tenant).data ?? [];
  const trays = useTrays(tenant).data ?? [];
  const add = useAddSchedule(tenant);
  const change = useChangeSchedule(tenant);
  const handIn = useHandIn(tenant);
  const rhythm = saved?.rhythm;
  const [name, setName] = useState(saved?.name ?? '');
  const [outlet, setOutlet] = useState(saved?.outlet ?? outlets[0]?.name ?? '');
  const [every, setEvery] = useState<Every>(saved ? (rhythm?.every ?? 'never') : 'weekly');
  const [hours, setHours] = useState((rhythm?.hours ?? [9]).join(', '));
  const [minute, setMinute] = useState(String(rhythm?.minute ?? 0));
  const [weekdays, setWeekdays] = useState((rhythm?.weekdays ?? [1]).map(String));
  const [monthDays, setMonthDays] = useState((rhythm?.month_days ?? [1]).join(', '));
  const [zone, setZone] = useState(rhythm?.time_zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone ?? 'UTC');
  const [afterRecords, setAfterRecords] = useState(saved?.after_records ?? false);
  const [afterTemplate, setAfterTemplate] = useState(saved?.after_template ?? false);
  const [tray, setTray] = useState(saved?.tray ?? '');
  const [template, setTemplate] = useState(saved?.template ?? '');
  const [list, setList] = useState(saved?.lists[0] ?? '');
  const [providers, setProviders] = useState(saved?.without_providers ?? []);
  const [without, setWithout] = useState((saved?.without_seeds ?? []).map(String));
  const [minutes, setMinutes] = useState(String(saved?.wait_minutes ?? 60));
  const [alerts, setAlerts] = useState(saved ? saved.alert !== null : true);
  const [share, setShare] = useState(String(Math.round(100 * (saved?.alert?.share ?? 0.5))));
  const [copies, setCopies] = useState(String(saved?.alert?.copies ?? 2));
  const [after, setAfter] = useState(String(saved?.alert?.after_minutes ?? 30));
  const lists = [...new Set(seeds.flatMap((seed) => seed.lists))].sort();
  const error = add.error ?? change.error ?? handIn.error;

  const submit = (event: FormEvent) => {
    event.preventDefault();
    const settings = {
      outlet,
      rhythm:
        every === 'never'
          ? null
          : {
              every,
              hours: numbers(hours),
              minute: Number(minute) || 0,
              weekdays: every === 'weekly' ? weekdays.map(Number) : [],
              month_days: every === 'monthly' ? numbers(monthDays) : [],
              time_zone: zone.trim() || 'UTC',
            },
      after_records: afterRecords,
      after_template: afterTemplate,
      tray,
      template: tray ? template.trim() : '',
      seeds: saved?.seeds ?? [],
      lists: list ? [list] : [],
      without_providers: providers,
      without_seeds: without.map(Number),
      keep_custom: saved?.keep_custom ?? true,
      wait_minutes: Number(minutes) || 60,
      alert: alerts
        ? {share: (Number(share) || 50) / 100, copies: Number(copies) || 1, after_minutes: Number(after) || 1}
        : null,
    };
    if (saved) change.mutate({name: saved.name, ...settings}, {onSuccess: onDone});
    else add.mutate({name: name.trim(), enabled: true, ...settings}, {onSuccess: onDone});
  };

  return (
    <div style={{marginTop: 16}}>
      <FormGrid onSubmit={submit} needs="operator">
        {!saved && <Field label="Name" hint="a-z, 0-9 and hyphens" mono value={name} onChange={setName} />}
        <Choice
          field
          label="Outlet"
          value={outlet}
          options={outlets.map((each) => ({value: each.name, label: each.name}))}
          onChange={setOutlet}
        />
        <Choice field label="Runs" value={every} options={EVERY} onChange={(value) => setEvery(value as Every)} />
        {every === 'weekly' && (
          <Several
            label="Weekdays"
            none="none chosen"
            add="Add a day"
            value={weekdays}
            options={WEEKDAYS}
            onChange={setWeekdays}
          />
        )}
        {every === 'monthly' && (
          <Field
            label="Days of the month"
            hint="1 to 31; a day that a month does not have is its last"
            value={monthDays}
            onChange={setMonthDays}
          />
        )}
        {every !== 'never' && (
          <>
            <Field
              label="Hours"
              hint={every === 'hourly' ? '0 to 23; none: every hour' : '0 to 23, such as 9, 15'}
              value={hours}
              onChange={setHours}
            />
            <Field label="Minute" value={minute} onChange={setMinute} />
            <Field label="Time zone" value={zone} onChange={setZone} />
          </>
        )}
        <CheckField label="Run after a change of records" isSelected={afterRecords} onChange={setAfterRecords} />
        <CheckField label="Run after a change of the message" isSelected={afterTemplate} onChange={setAfterTemplate} />
        <Choice
          field
          label="Message"
          value={tray}
          options={[
            {value: '', label: 'Handed in or mailed'},
            ...trays.map((each) => ({value: each.name, label: `Newest of the tray ${each.name}`})),
          ]}
          onChange={setTray}
        />
        {tray && <Field label="Template" hint="without one, any" value={template} onChange={setTemplate} />}
        <Choice
          field
          label="Seeds"
          value={list}
          options={[{value: '', label: 'All that are on'}, ...lists.map((each) => ({value: each, label: each}))]}
          onChange={setList}
        />
        <Several
          label="Leave out providers"
          none="none"
          add="Add a provider"
          value={providers}
          options={[...new Set(seeds.map((seed) => seed.provider))].map((value) => ({value, label: value}))}
          onChange={setProviders}
        />
        <Several
          label="Leave out seeds"
          none="none"
          add="Add a seed"
          value={without}
          options={seeds.map((seed) => ({value: String(seed.id), label: seed.address}))}
          onChange={setWithout}
        />
        <Field
          label="Waiting time, minutes"
          hint="a copy not found by then is missing"
          value={minutes}
          onChange={setMinutes}
        />
        <CheckField label="Report providers with poor placement" isSelected={alerts} onChange={setAlerts} />
        {alerts && (
          <>
            <Field label="From this share in spam or missing, %" value={share} onChange={setShare} />
            <Field label="Minimum number of copies" value={copies} onChange={setCopies} />
            <Field label="Minutes after the start" hint="for relays that queue" value={after} onChange={setAfter} />
          </>
        )}
        {saved && !tray && (
          <div data-wide>
            <FilePicker
              label={handIn.isPending ? 'Storing …' : saved.has_message ? 'Replace the message' : 'Choose the message'}
              hint="or drop an .eml file here"
              accept={['.eml', 'message/rfc822']}
              isDisabled={handIn.isPending}
              onFile={(file) => handIn.mutate({name: saved.name, file})}
            />
            <Small role="status">{saved.has_message ? 'A message was handed in. ' : 'No message yet. '}</Small>
            {saved.address && (
              <Small>
                Or mail it to <code>{saved.address}</code> <CopyButton value={saved.address}>Copy</CopyButton>
              </Small>
            )}
          </div>
        )}
        <footer>
          <Button type="submit" tone="main" isDisabled={add.isPending || change.isPending || (!saved && !name.trim())}>
            Save
          </Button>
          <Button onPress={onDone}>Cancel</Button>
        </footer>
      </FormGrid>
      {error && <Trouble error={error} />}
    </div>
  );
}
