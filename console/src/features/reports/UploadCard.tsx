/** Reports from files: what became of each is said at once, and nothing counts twice. */
import type {Schemas} from '../../api/client';
import {Card, Tag} from '../../design/Card';
import {DataTable, type Column} from '../../design/DataTable';
import {FilePicker} from '../../design/FilePicker';
import {Loading, Trouble} from '../../design/Notice';
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

export function UploadCard({tenant}: {tenant: string}) {
  const upload = useUpload(tenant);
  return (
    <Card title="Upload reports" note="the same report counts once, however often it is uploaded">
      <FilePicker
        label="Choose reports"
        hint="XML, JSON, gzip, zip, or messages that carry one"
        isDisabled={upload.isPending}
        onFiles={(files) => upload.mutate(files)}
      />
      {upload.isPending && <Loading what="reports" />}
      {upload.error && <Trouble error={upload.error} />}
      {upload.data && (
        <DataTable
          label="Uploaded reports"
          columns={columns}
          rows={upload.data}
          id={(row) => row.file}
          file="uploads.csv"
        />
      )}
    </Card>
  );
}
