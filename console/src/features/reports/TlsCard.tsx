/** How mail to the domain was encrypted, by TLS reports: sessions by day, what failed and what to do, policies seen. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Card, Small, Tag} from '../../design/Card';
import {DataTable, type Column} from '../../design/DataTable';
import {count, day, plural} from '../../design/format';
import {Trouble} from '../../design/Notice';
import {Stack} from '../../design/Stack';
import {colour, font} from '../../design/tokens';
import {useTls} from './queries';

type Failure = Schemas['TlsFailureSeen'];
const WIDTH = 720;
const HEIGHT = 40;
const Chart = styled.svg`
  width: 100%;
  height: ${HEIGHT}px;
  display: block;
`;
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

export function TlsCard({tenant, domain, days}: {tenant: string; domain: string; days: number}) {
  const tls = useTls(tenant, domain, days);
  if (tls.error)
    return (
      <Card title="TLS">
        <Trouble error={tls.error} again={() => void tls.refetch()} />
      </Card>
    );
  if (!tls.data) return null;
  const found = tls.data;
  const most = Math.max(1, ...found.days.map((each) => each.successful + each.failed));
  const step = WIDTH / Math.max(1, found.days.length);
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
          <Chart
            viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
            preserveAspectRatio="none"
            role="img"
            aria-label={`Sessions by day, at most ${count(most)}; ${count(found.failed)} failed`}
          >
            <defs>
              <pattern id="tls-failed" width="4" height="4" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
                <rect width="2" height="4" fill={colour('corroded')} />
              </pattern>
            </defs>
            {found.days.map((each, index) => {
              const good = ((HEIGHT - 2) * each.successful) / most;
              const bad = ((HEIGHT - 2) * each.failed) / most;
              return (
                <g key={each.day}>
                  <title>{`${day(each.day)}: ${count(each.successful)} succeeded, ${count(each.failed)} failed`}</title>
                  <rect x={index * step} y={HEIGHT - good} width={step * 0.8} height={good} fill={colour('sound')} />
                  <rect
                    x={index * step}
                    y={HEIGHT - good - bad}
                    width={step * 0.8}
                    height={bad}
                    fill="url(#tls-failed)"
                  />
                </g>
              );
            })}
          </Chart>
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
