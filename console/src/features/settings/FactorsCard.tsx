/** Parameters of readings by factor. Saving them recomputes past readings, and shows old and new side by side. */
import {useState} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useChangeReadingSettings, useReadingSettings} from '../readings/queries';
import {useJob} from '../jobs/queries';
import {Button} from '../../design/Button';
import {Card, Small} from '../../design/Card';
import {Confirm} from '../../design/Confirm';
import {DataTable} from '../../design/DataTable';
import {day, factor} from '../../design/format';
import {Loading, Trouble} from '../../design/Notice';
import {colour, font, space} from '../../design/tokens';

type Shown = Schemas['FactorShown'];
/** As the job's result holds it. */
interface Change {
  name: string;
  before: number | null;
  after: number | null;
}
const FIELDS = ['watch', 'stop', 'weight', 'half_life'] as const;
type FieldName = (typeof FIELDS)[number];
const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s};
  margin-top: ${space.m};
`;
const Number_ = styled.input`
  width: 72px;
  font: 13px ${font.mono};
  text-align: right;
  padding: 3px 6px;
  border-radius: 4px;
  color: ${colour('ink')};
  background: ${colour('sheet')};
  border: 1px solid ${colour('line')};
  &[data-changed] {
    border-color: ${colour('rust')};
    font-weight: 600;
  }
`;

/** As people type it: rates in per cent. */
const typed = (row: Shown, name: FieldName): string => String(Number((row[name] * scale(row, name)).toPrecision(6)));
const scale = (row: Shown, name: FieldName): number =>
  (name === 'watch' || name === 'stop') && row.unit === 'rate' ? 100 : 1;
const unit = (row: Shown): string =>
  ({rate: '%', times: '× below median', doublings: 'doublings', faults: 'faults'})[row.unit];

export function FactorsCard({tenant}: {tenant: string}) {
  const settings = useReadingSettings(tenant);
  const [job, setJob] = useState(0);
  return (
    <Card
      title="Reading factors"
      note="the lines of each factor, what it counts at its watch line (log-odds), and its half-life"
    >
      {settings.isPending && <Loading what="settings" />}
      {settings.error && <Trouble error={settings.error} />}
      {settings.data && (
        <Factors key={JSON.stringify(settings.data.settings)} tenant={tenant} view={settings.data} onJob={setJob} />
      )}
      {job > 0 ? (
        <Recomputed tenant={tenant} id={job} />
      ) : (
        settings.data?.last_change && <LastChange found={settings.data.last_change} />
      )}
    </Card>
  );
}

function Factors({
  tenant,
  view,
  onJob,
}: {
  tenant: string;
  view: Schemas['ReadingSettingsView'];
  onJob: (id: number) => void;
}) {
  const change = useChangeReadingSettings(tenant);
  const [edits, setEdits] = useState<Record<string, string>>({});
  const key = (row: Shown, name: FieldName) => `${row.name}.${name}`;
  const value = (row: Shown, name: FieldName) => edits[key(row, name)] ?? typed(row, name);
  const edited = Object.keys(edits).length > 0;
  const own = view.factors.some((row) => row.changed.length > 0);
  const save = () => {
    const factors: Record<string, Record<string, number>> = {};
    for (const [name, given] of Object.entries(view.settings.factors ?? {})) {
      factors[name] = Object.fromEntries(
        Object.entries(given).filter((pair): pair is [string, number] => pair[1] != null),
      );
    }
    for (const row of view.factors)
      for (const name of FIELDS) {
        const text = edits[key(row, name)];
        if (text !== undefined)
          (factors[row.name] ??= {})[name] = Number((Number(text.replace(',', '.')) / scale(row, name)).toPrecision(8));
      }
    change.mutate({factors}, {onSuccess: (saved) => onJob(saved.job ?? 0)});
  };
  const input = (row: Shown, name: FieldName) => (
    <Number_
      inputMode="decimal"
      aria-label={`${factor(row.name)}, ${name.replace('_', ' ')}`}
      value={value(row, name)}
      data-changed={edits[key(row, name)] !== undefined || row.changed.includes(name) || undefined}
      onChange={(event) => setEdits({...edits, [key(row, name)]: event.target.value})}
    />
  );
  const wrong = Object.values(edits).some((text) => !(Number(text.replace(',', '.')) >= 0) || !text.trim());
  return (
    <>
      <DataTable
        label="Factors"
        columns={[
          {name: 'Factor', value: (row: Shown) => factor(row.name)},
          {name: 'Watch', value: (row) => row.watch, show: (row) => input(row, 'watch'), number: true},
          {name: 'Stop', value: (row) => row.stop, show: (row) => input(row, 'stop'), number: true},
          {name: 'Unit', value: unit},
          {name: 'Weight', value: (row) => row.weight, show: (row) => input(row, 'weight'), number: true},
          {
            name: 'Half-life, days',
            value: (row) => row.half_life,
            show: (row) => input(row, 'half_life'),
            number: true,
          },
        ]}
        rows={view.factors}
        id={(row) => row.name}
        file="factors.csv"
      />
      <Row>
        <Button tone="main" isDisabled={!edited || wrong || change.isPending} onPress={save}>
          Save and recompute
        </Button>
        {edited && <Button onPress={() => setEdits({})}>Cancel</Button>}
        {own && (
          <Confirm
            label="Restore defaults"
            title="Restore the default factors?"
            action="Restore"
            isDisabled={change.isPending}
            onConfirm={() => change.mutate(null, {onSuccess: (saved) => onJob(saved.job ?? 0)})}
          >
            Your own parameters are discarded, and past readings are recomputed.
          </Confirm>
        )}
      </Row>
      {wrong && <Small role="alert">Enter a number of 0 or more.</Small>}
      {view.changed_by && <Small>Last changed by {view.changed_by}.</Small>}
      {change.error && <Trouble error={change.error} />}
    </>
  );
}

function Recomputed({tenant, id}: {tenant: string; id: number}) {
  const job = useJob(tenant, id);
  if (!job.data) return <Loading what="readings" />;
  if (job.data.state === 'failed')
    return <Small role="alert">{job.data.error || 'The readings could not be recomputed.'}</Small>;
  const over = job.data.state === 'done' || job.data.state === 'cancelled';
  if (!over)
    return (
      <Small role="status">
        Recomputing: {job.data.done} of {job.data.total} domains
      </Small>
    );
  return <Changes rows={(job.data.result.changes ?? []) as Change[]} />;
}

/** What the last recomputation did, also that of an upgrade. */
function LastChange({found}: {found: Schemas['ReadingChanges']}) {
  const why = found.why === 'arithmetic' ? 'an upgrade changed how readings are computed' : 'factors were changed';
  return (
    <>
      <Small>
        Recomputed on {day(found.at)}: {why}.
      </Small>
      <Changes rows={found.changes} />
    </>
  );
}

const signed = (value: number) => (value < 0 ? '−' : '+') + Math.abs(value).toFixed(1);

function Changes({rows}: {rows: Change[]}) {
  const show = (value: number | null) => (value == null ? '' : value.toFixed(1));
  return (
    <DataTable
      label="Readings before and after"
      columns={[
        {name: 'Domain', value: (row: Change) => row.name},
        {name: 'Before', value: (row) => row.before, show: (row) => show(row.before), number: true},
        {name: 'After', value: (row) => row.after, show: (row) => show(row.after), number: true},
        {
          name: 'Difference',
          value: (row) => (row.before == null || row.after == null ? null : row.after - row.before),
          show: (row) => (row.before == null || row.after == null ? '' : signed(row.after - row.before)),
          number: true,
        },
      ]}
      rows={rows}
      id={(row) => row.name}
      file="readings-before-and-after.csv"
    />
  );
}
