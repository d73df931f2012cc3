/** One stored report: who sent it, the policy as its receiver found it, and its rows. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card, Small} from '../../design/Card';
import {DataTable, type Column} from '../../design/DataTable';
import {count, day, plural, words} from '../../design/format';
import {Loading, Trouble} from '../../design/Notice';
import {Stack} from '../../design/Stack';
import {font} from '../../design/tokens';
import {useReport} from './queries';

type Record = Schemas['ReportRecord'];
const Mono = styled.span`
  font: 12px ${font.mono};
`;
const signatures = (row: Record) =>
  row.signatures.map((each) => `${each.domain}/${each.selector || '?'} ${each.result}`).join(', ') || 'no signature';
const by = (row: Record) =>
  row.spf_aligned && row.dkim_aligned ? 'both' : row.spf_aligned ? 'SPF' : row.dkim_aligned ? 'DKIM' : 'neither';

const columns: Column<Record>[] = [
  {name: 'Source', value: (row) => row.source_ip, show: (row) => <Mono>{row.source_ip}</Mono>},
  {name: 'Messages', value: (row) => row.count, show: (row) => count(row.count), number: true},
  {name: 'From', value: (row) => row.header_from, show: (row) => <Mono>{row.header_from}</Mono>},
  {
    name: 'SPF',
    value: (row) => `${row.spf_domain} ${row.spf_result}`,
    show: (row) => <Mono>{`${row.spf_domain} ${row.spf_result}`}</Mono>,
  },
  {name: 'DKIM', value: signatures, show: (row) => <Mono>{signatures(row)}</Mono>},
  {name: 'Aligned by', value: by},
  {name: 'Done', value: (row) => row.disposition},
  {name: 'Reasons', value: (row) => row.reasons.map((each) => words(each.kind)).join(', ')},
];

export function ReportCard({tenant, id, onClose}: {tenant: string; id: number; onClose: () => void}) {
  const report = useReport(tenant, id);
  const close = (
    <Button tone="link" onPress={onClose}>
      Close
    </Button>
  );
  if (!report.data)
    return (
      <Card title={`Report ${id}`} actions={close}>
        {report.error ? (
          <Trouble error={report.error} again={() => void report.refetch()} />
        ) : (
          <Loading what={`report ${id}`} />
        )}
      </Card>
    );
  const found = report.data;
  const tags = Object.entries(found.policy ?? {}).filter(([, value]) => value);
  const failure = Object.entries(found.failure ?? {}).filter(([, value]) => value);
  return (
    <Card
      title={`Report ${id}: ${found.label} about ${found.domain}`}
      note={`${day(found.begins_at)}${found.ends_at.slice(0, 10) === found.begins_at.slice(0, 10) ? '' : ` to ${day(found.ends_at)}`}, ${found.kind}`}
      actions={
        <>
          {found.has_original && (
            <a href={`/api/v1/tenants/${tenant}/receiver-reports/${id}/original`} download>
              Download original
            </a>
          )}
          {close}
        </>
      }
    >
      <Stack>
        {[
          ...found.oddities,
          ...(found.left_out ? [`${plural(found.left_out, 'record')} could not be read`] : []),
          ...(found.overlaps.length
            ? [`It overlaps with reports ${found.overlaps.join(', ')} of the same receiver`]
            : []),
        ].map((each) => (
          <Small key={each}>{each}.</Small>
        ))}
        {tags.length > 0 && (
          <div>
            Policy as the receiver found it: <Mono>{tags.map(([name, value]) => `${name}=${value}`).join('; ')}</Mono>
          </div>
        )}
        {failure.map(([name, value]) => (
          <div key={name}>
            {words(name)}: <Mono>{String(value)}</Mono>
          </div>
        ))}
        {found.tls.map((each) => (
          <div key={each.domain + each.kind}>
            {each.kind} <Mono>{each.domain}</Mono>: {plural(each.successful, 'session')} succeeded, {count(each.failed)}{' '}
            failed
          </div>
        ))}
        {found.rows.length > 0 && (
          <DataTable
            label={`Rows of report ${id}`}
            columns={columns}
            rows={found.rows}
            id={(row) => JSON.stringify(row)}
            file={`report-${id}.csv`}
          />
        )}
        {found.more_rows > 0 && <Small>{count(found.more_rows)} more rows, with fewer messages.</Small>}
      </Stack>
    </Card>
  );
}
