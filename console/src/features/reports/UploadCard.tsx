/** Reports from files: what became of each is said at once, or by a job that shows how far it is. Nothing counts twice. */
import {useState} from 'react';
import type {Schemas} from '../../api/client';
import {Card, Tag} from '../../design/Card';
import {DataTable, type Column} from '../../design/DataTable';
import {FilePicker} from '../../design/FilePicker';
import {ago, count, percent} from '../../design/format';
import {Trouble} from '../../design/Notice';
import {useJobs, useRunJob} from '../jobs/queries';
import {JobState} from '../suppression/JobState';
import {useUpload} from './queries';

type Done = Schemas['StoredReport'] & {file: string};
const STATES: Record<Schemas['StoredReport']['state'], [string, 'right' | 'note' | 'risk']> = {
  stored: ['stored', 'right'],
  duplicate: ['known already', 'note'],
  not_ours: ['not a domain of yours', 'note'],
  rejected: ['set aside', 'risk'],
};
const columns: Column<Done>[] = [
  {name: 'File', value: (row) => row.file},
  {
    name: 'State',
    value: (row) => row.state,
    show: (row) => <Tag level={STATES[row.state][1]}>{STATES[row.state][0]}</Tag>,
  },
  {name: 'About', value: (row) => row.domain ?? ''},
  {name: 'From', value: (row) => row.receiver ?? ''},
  {name: 'Rows', value: (row) => row.records ?? 0, number: true},
  {name: 'Remark', value: (row) => [row.problem, row.why, ...(row.oddities ?? [])].filter(Boolean).join('; ')},
];
interface Problem {
  file: string;
  problem: string;
  why: string;
  remedy: string;
}
const problems: Column<Problem>[] = [
  {name: 'File', value: (row) => row.file},
  {name: 'Problem', value: (row) => [row.problem, row.why].filter(Boolean).join(': ')},
  {name: 'What to do', value: (row) => row.remedy},
];

export function UploadCard({tenant}: {tenant: string}) {
  const upload = useUpload(tenant);
  const [share, setShare] = useState(0);
  const {done = [], jobs = []} = upload.data ?? {};
  return (
    <Card title="Upload reports" note="the same report counts once, however often it is uploaded">
      <FilePicker
        label="Choose reports"
        hint="XML, JSON, gzip, zip or tar archives, or messages that carry reports"
        isDisabled={upload.isPending}
        onFiles={(files) => {
          setShare(0);
          upload.mutate({files, told: setShare});
        }}
      />
      {upload.isPending && <p role="status">Uploading{share > 0 && `: ${percent(share)}`}</p>}
      {upload.error && <Trouble error={upload.error} />}
      {done.length > 0 && (
        <DataTable label="Uploaded reports" columns={columns} rows={done} id={(row) => row.file} file="uploads.csv" />
      )}
      <Files tenant={tenant} started={jobs} />
    </Card>
  );
}

/** Files that a job stores: those that were uploaded here, and the newest before. */
function Files({tenant, started}: {tenant: string; started: number[]}) {
  const jobs = useJobs(tenant, 'report_files');
  const run = useRunJob(tenant);
  const shown = (jobs.data ?? []).filter(
    (job, at) => started.includes(job.id) || (at === 0 && job.state !== 'collecting'),
  );
  return shown.map((job) => {
    const {counts = {}, problems: bad = []} = job.result as {counts?: Record<string, number>; problems?: Problem[]};
    return (
      <section key={job.id} aria-label={job.name}>
        <p style={{marginBottom: 0}}>
          <b>{job.name}</b>, {ago(job.created_at)}
          {Object.entries(STATES)
            .filter(([state]) => counts[state])
            .map(([state, [words]]) => `; ${count(counts[state] ?? 0)} ${words}`)}
        </p>
        <JobState job={job} run={run} />
        {bad.length > 0 && (
          <DataTable
            label={`Set aside of ${job.name}`}
            columns={problems}
            rows={bad}
            id={(row) => `${row.file} ${row.problem}`}
            file="set-aside.csv"
          />
        )}
      </section>
    );
  });
}
