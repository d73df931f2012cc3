/** What each receiver reported as ours, beside what our events say it took. */
import type {Schemas} from '../../api/client';
import {Card, Small, Tag} from '../../design/Card';
import {DataTable, type Column} from '../../design/DataTable';
import {count} from '../../design/format';

type Row = Schemas['ReceiverCount'];
const columns: Column<Row>[] = [
  {name: 'Receiver', value: (row) => row.label},
  {name: 'Reported as ours', value: (row) => row.reported, show: (row) => count(row.reported), number: true},
  {name: 'Not aligned', value: (row) => row.not_aligned, show: (row) => count(row.not_aligned), number: true},
  {
    name: 'Delivered by our events',
    value: (row) => row.sent,
    show: (row) => (row.sent == null ? <Small>no events</Small> : count(row.sent)),
    number: true,
  },
  {
    name: 'Remark',
    value: (row) => (row.unexplained ? 'more than our events know' : ''),
    show: (row) => (row.unexplained ? <Tag level="risk">more than our events know</Tag> : ''),
  },
];

export function ReceiversCard({domain, receivers}: {domain: string; receivers: Row[]}) {
  if (!receivers.length) return null;
  return (
    <Card title="Receivers" note="mail of ours in their reports, and what our events say they took on the same days">
      <DataTable
        label={`Receivers that report about ${domain}`}
        columns={columns}
        rows={receivers}
        id={(row) => row.receiver}
        file={`receivers-${domain}.csv`}
      />
    </Card>
  );
}
