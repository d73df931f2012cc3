/** Which streams of ours are not aligned, at which receivers, since when, and what changed then. */
import type {Schemas} from '../../api/client';
import {Card, Small, Tag} from '../../design/Card';
import {DataTable, type Column} from '../../design/DataTable';
import {count, day} from '../../design/format';
import {Loading, Trouble} from '../../design/Notice';
import {useStreams} from './queries';
import {aligned, share} from './verdicts';

type Row = Schemas['StreamMail'];
type At = Schemas['StreamReceiver'];
const FAILS = 0.2; // of the signatures by a key, from which it is named
const name = (row: Row) => row.streams.join(' or ') || 'no stream of the plan';
/** Since when; what fails since the first day of the period may have failed before. */
const since = (from: string, first: string) => (from <= first ? `${day(from)} or earlier` : day(from));
const where = (at: At, first: string) =>
  `${at.label} ${count(at.not_aligned)} of ${count(at.messages)}${at.failing_since ? `, since ${since(at.failing_since, first)}` : ''}`;
const failing = (row: Row) => row.failing_since != null || row.not_aligned_at.some((at) => at.failing_since != null);
const broken = (row: Row) =>
  row.keys
    .filter((key) => key.messages - key.passed >= FAILS * key.messages)
    .map((key) => `${key.domain}/${key.selector || '?'} ${count(key.passed)} of ${count(key.messages)} passed`);

const columns = (first: string): Column<Row>[] => [
  {name: 'Stream', value: name, show: (row) => (row.streams.length ? name(row) : <Small>{name(row)}</Small>)},
  {name: 'Over', value: (row) => row.sources.join(', ')},
  {name: 'Messages', value: (row) => row.mail.messages, show: (row) => count(row.mail.messages), number: true},
  {
    name: 'Aligned',
    value: (row) => aligned(row.mail) / Math.max(1, row.mail.messages),
    show: (row) => share(aligned(row.mail), row.mail.messages),
    number: true,
  },
  {
    name: 'Failing since',
    value: (row) => row.failing_since ?? '',
    show: (row) =>
      row.failing_since ? (
        <Tag level="fault">{since(row.failing_since, first)}</Tag>
      ) : failing(row) ? (
        <Tag level="risk">at some receivers</Tag>
      ) : (
        <Small>–</Small>
      ),
  },
  {
    name: 'Not aligned at',
    value: (row) => row.not_aligned_at.map((at) => where(at, first)).join('; '),
    show: (row) =>
      row.not_aligned_at.length ? (
        <span style={{whiteSpace: 'normal', display: 'inline-block', maxWidth: '48ch'}}>
          {row.not_aligned_at
            .slice(0, 3)
            .map((at) => where(at, first))
            .join('; ')}
        </span>
      ) : (
        <Small>–</Small>
      ),
  },
];

export function StreamsCard({tenant, domain, days}: {tenant: string; domain: string; days: number}) {
  const found = useStreams(tenant, domain, days);
  if (found.isPending) return <Loading what="streams" />;
  if (found.error) return <Trouble error={found.error} again={() => void found.refetch()} />;
  const {streams, not_reported: silent} = found.data;
  if (!streams.length) return null;
  return (
    <Card
      title="Our streams"
      note="own mail, as receivers reported it; failing: more than a fifth not aligned, each day"
    >
      <DataTable
        label={`Streams of ${domain}`}
        columns={columns(found.data.first)}
        rows={streams}
        id={(row) => name(row)}
        file={`streams-${domain}.csv`}
      />
      {streams.filter(failing).map((row) => (
        <p key={name(row)} style={{margin: '8px 0 0'}}>
          <b>{name(row)}</b>: {broken(row).length ? `keys that fail: ${broken(row).join(', ')}. ` : ''}
          {row.changes.length
            ? `Changed then: ${row.changes.map((each) => `${day(each.at)} ${each.title}`).join('; ')}.`
            : 'No change of the domain’s records is known from these days.'}
        </p>
      ))}
      {silent.length > 0 && <Small>Not in any report: {silent.join(', ')}.</Small>}
    </Card>
  );
}
