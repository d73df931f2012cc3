/** A list cut into portions that fit a plan: as files, as a calendar, and how many go to whom when. */
import {useState} from 'react';
import {Button} from '../../design/Button';
import {FilePicker} from '../../design/FilePicker';
import {Card, Small} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {ago, count, day, percent} from '../../design/format';
import {Notice, Trouble} from '../../design/Notice';
import {Row} from '../../design/Stack';
import {Needs} from '../../design/may';
import {useJob, useJobs, useRunJob} from '../jobs/queries';
import {JobState} from '../suppression/JobState';
import {useCutList} from './queries';

const SHOWN = 24;

interface Portion {
  part: string;
  file: string;
  at: string;
  messages: number;
  by_provider: Record<string, number>;
}
interface Result {
  counts: Record<string, number>;
  portions: Portion[];
  plan: string;
  last: string | null;
}

export function CutCard({tenant, plan}: {tenant: string; plan: string}) {
  const jobs = useJobs(tenant, 'list_cut');
  const cut = useCutList(tenant);
  const [engagement, setEngagement] = useState('');
  const [portions, setPortions] = useState<'hour' | 'day'>('hour');
  const [share, setShare] = useState(0);
  const [chosen, setChosen] = useState(0);
  const mine = (jobs.data ?? []).filter((job) => (job.request as {plan?: string}).plan === plan);
  const id = chosen || mine[0]?.id || 0;
  const take = (file: File) => {
    setShare(0);
    cut.mutate(
      {file, plan, engagement: engagement.trim(), portions, told: setShare},
      {onSuccess: (job) => setChosen(job.id)},
    );
  };
  return (
    <Card
      title="Cut a list"
      note="portions that fit the plan, the most engaged recipients first; held addresses are removed"
      actions={
        mine.length > 1 && (
          <Choice
            label="Earlier lists"
            value={String(id)}
            options={mine.map((job) => ({value: String(job.id), label: `${job.name}, ${ago(job.created_at)}`}))}
            onChange={(value) => setChosen(Number(value))}
          />
        )
      }
    >
      <Needs least="operator">
        <Row style={{alignItems: 'start', marginBottom: 10}}>
          <Field
            label="Engagement column"
            hint="date or number; empty: opens and clicks of 180 days"
            value={engagement}
            onChange={setEngagement}
          />
          <Choice
            field
            label="Portions"
            value={portions}
            options={[
              {value: 'hour', label: 'One for each hour'},
              {value: 'day', label: 'One for each day'},
            ]}
            onChange={(value) => setPortions(value as 'hour' | 'day')}
          />
        </Row>
        <FilePicker
          label="Choose file"
          hint="or drop it here: CSV, NDJSON or one address per line"
          accept={['.csv', '.ndjson', '.txt', 'text/csv', 'text/plain']}
          isDisabled={cut.isPending}
          onFile={take}
        />
      </Needs>
      {cut.isPending && <p role="status">Uploading: {percent(share)}</p>}
      {cut.error && <Trouble error={cut.error} />}
      {id === 0 && !cut.isPending && (
        <Notice title="No lists cut yet">
          Choose a file to get one file for each hour or day of the plan, and a calendar to send by.
        </Notice>
      )}
      {id > 0 && <Portions tenant={tenant} id={id} />}
    </Card>
  );
}

function Portions({tenant, id}: {tenant: string; id: number}) {
  const job = useJob(tenant, id);
  const run = useRunJob(tenant);
  const [all, setAll] = useState(false);
  if (!job.data) return null;
  const {counts = {}, portions = [], last} = job.data.result as Partial<Result>;
  const parts = job.data.parts ?? {};
  const path = `/api/v1/tenants/${tenant}/jobs/${id}`;
  const providers = [...new Set(portions.flatMap((each) => Object.keys(each.by_provider)))];
  return (
    <>
      <JobState job={job.data} run={run} />
      {job.data.state === 'done' && (
        <>
          <p>
            <b>
              {count(counts.cut ?? 0)} of {count(counts.rows ?? 0)} recipients in {count(portions.length)} portions
              {last ? ` up to ${day(last)}` : ''}
            </b>
            {counts.removed ? `, ${count(counts.removed)} removed` : ''}
            {counts.left ? `, ${count(counts.left)} left over` : ''}.{' '}
            <Small>
              Portions hold if the plan goes on each day. When it was held back, cut again what is not sent yet.
            </Small>
          </p>
          <Row>
            <a href={`${path}/archive`} download>
              Download all files
            </a>
            <a href={`${path}/parts/calendar`} download>
              Calendar as CSV
            </a>
            <a href={`${path}/parts/icalendar`} download>
              Calendar as iCalendar
            </a>
            {(['removed', 'left'] as const)
              .filter((part) => parts[part])
              .map((part) => (
                <a key={part} href={`${path}/parts/${part}`} download>
                  {part === 'removed' ? 'Removed rows' : 'Rows left over'}
                </a>
              ))}
          </Row>
          <DataTable
            label="Portions"
            file={`portions-${id}.csv`}
            rows={all ? portions : portions.slice(0, SHOWN)}
            id={(row) => row.part}
            columns={[
              {
                name: 'From (UTC)',
                value: (row) => row.at,
                show: (row) => `${day(row.at)}, ${row.at.slice(11, 16)}`,
              },
              {name: 'Messages', value: (row) => row.messages, show: (row) => count(row.messages), number: true},
              ...providers.map((name) => ({
                name,
                value: (row: Portion) => row.by_provider[name] ?? 0,
                show: (row: Portion) => count(row.by_provider[name] ?? 0),
                number: true,
              })),
              {
                name: 'File',
                value: (row) => row.file,
                show: (row) => (
                  <a href={`${path}/parts/${row.part}`} download={row.file}>
                    {row.file}
                  </a>
                ),
              },
            ]}
          />
          {portions.length > SHOWN && (
            <Button tone="link" onPress={() => setAll(!all)}>
              {all ? `Show the first ${SHOWN}` : `Show all ${count(portions.length)} portions`}
            </Button>
          )}
        </>
      )}
    </>
  );
}
