/** How mail to the domain was encrypted, by TLS reports: sessions by day, what failed and what to do, policies seen. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Card, Small, Tag} from '../../design/Card';
import {ChartView} from '../../design/ChartView';
import {DataTable, type Column} from '../../design/DataTable';
import {count, day, plural} from '../../design/format';
import {HappenedKey} from '../../design/happened';
import {Trouble} from '../../design/Notice';
import {Stack} from '../../design/Stack';
import {TimeChart} from '../../design/TimeChart';
import {font} from '../../design/tokens';
import {useZoom} from '../../design/zoom';
import {useAnnotations} from '../readings/queries';
import {useTls} from './queries';

type Failure = Schemas['TlsFailureSeen'];
const Wide = styled.span`
  display: inline-block;
  max-width: 60ch;
  white-space: normal;
`;
const Mono = styled.span`
  font: 12px ${font.mono};
`;

const failures: Column<Failure>[] = [
  {name: 'Result', value: (row) => row.result, show: (row) => <Mono>{row.result}</Mono>},
  {name: 'Sessions', value: (row) => row.sessions, show: (row) => count(row.sessions), number: true},
  {
    name: 'With enforce',
    value: (row) => (row.blocks ? 'kept back' : 'delivered'),
    show: (row) => (row.blocks ? <Tag level="risk">kept back</Tag> : <Small>delivered</Small>),
  },
  {name: 'MX', value: (row) => row.mx.join(', '), show: (row) => <Mono>{row.mx.join(', ') || '–'}</Mono>},
  {name: 'Receivers', value: (row) => row.receivers.join(', ')},
  {name: 'Last day', value: (row) => row.last_day, show: (row) => day(row.last_day)},
  {
    name: 'What to do',
    value: (row) => `${row.meaning}. ${row.remedy}`,
    show: (row) => <Wide>{`${row.meaning}. ${row.remedy}.`}</Wide>,
  },
];
const policies: Column<Schemas['TlsPolicyReported']>[] = [
  {name: 'Kind', value: (row) => row.kind},
  {name: 'Policy', value: (row) => row.text.join('; '), show: (row) => <Mono>{row.text.join('; ') || '–'}</Mono>},
  {name: 'Seen by', value: (row) => row.receivers.join(', ')},
  {name: 'Last day', value: (row) => row.last_day, show: (row) => day(row.last_day)},
  {
    name: 'Served now',
    value: (row) => (row.is_current === null ? '' : row.is_current ? 'yes' : 'no'),
    show: (row) =>
      row.is_current == null ? <Small>not served here</Small> : row.is_current ? 'yes' : <Tag level="risk">no</Tag>,
  },
];

const sessions: Column<Schemas['TlsDay']>[] = [
  {name: 'Day', value: (row) => row.day},
  {name: 'Succeeded', value: (row) => row.successful, number: true},
  {name: 'Failed', value: (row) => row.failed, number: true},
];

export function TlsCard({tenant, domain, days}: {tenant: string; domain: string; days: number}) {
  const tls = useTls(tenant, domain, days);
  const all = tls.data?.days ?? [];
  const zoom = useZoom(all.map((each) => each.day));
  const shown = all.filter((each) => zoom.shows(each.day));
  const first = all[0]?.day ?? '';
  const annotations = useAnnotations(tenant, first, domain, first !== '').data ?? [];
  if (tls.error)
    return (
      <Card title="TLS">
        <Trouble error={tls.error} again={() => void tls.refetch()} />
      </Card>
    );
  if (!tls.data) return null;
  const found = tls.data;
  const most = Math.max(1, ...shown.map((each) => each.successful + each.failed));
  return (
    <Card
      title="TLS"
      note={
        found.days.length
          ? `${count(found.successful)} sessions succeeded, ${count(found.failed)} failed; reports of ${plural(found.days.length, 'day')}`
          : 'no TLS reports in this period: publish a record at _smtp._tls that asks for them'
      }
    >
      {found.days.length > 0 && (
        <Stack>
          <ChartView
            label="TLS sessions by day"
            file={`tls-days-${domain}`}
            columns={sessions}
            rows={[...shown].reverse()}
            zoom={zoom}
            id={(row) => row.day}
          >
            <TimeChart
              label={`Sessions by day, at most ${count(most)}; ${count(found.failed)} failed`}
              days={shown.map((each) => each.day)}
              height={90}
              scale={{high: most, ticks: [0, most], format: count}}
              annotations={annotations}
              columns={[
                {name: 'succeeded', values: shown.map((each) => each.successful), tone: 'sound', format: count},
                {
                  name: 'failed',
                  values: shown.map((each) => each.failed),
                  tone: 'corroded',
                  hatched: true,
                  format: count,
                },
              ]}
            />
            <HappenedKey annotations={annotations} first={zoom.first} last={zoom.last} />
          </ChartView>
          <p style={{margin: 0}}>
            <b>{found.rehearsal.summary}.</b>
          </p>
          {found.failures.length > 0 && (
            <DataTable
              label="Failed sessions"
              columns={failures}
              rows={found.failures}
              id={(row) => row.result}
              file={`tls-failures-${domain}.csv`}
            />
          )}
          <DataTable
            label="Policies as senders saw them"
            columns={policies}
            rows={found.policies}
            id={(row) => row.kind + row.text.join()}
            file={`tls-policies-${domain}.csv`}
          />
        </Stack>
      )}
    </Card>
  );
}
