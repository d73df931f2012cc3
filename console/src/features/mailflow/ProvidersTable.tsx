/** Mail per provider: rates with their intervals where they say something, beside the period before. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Small} from '../../design/Card';
import type {Meaning} from '../../design/About';
import {DataTable, type Column} from '../../design/DataTable';
import {bare, count, day, percent} from '../../design/format';
import {colour} from '../../design/tokens';

type FlowRow = Schemas['FlowRow'];
type Rate = Schemas['Rate'];

interface Lines {
  watch: number;
  stop: number;
}
const BOUNCES: Lines = {watch: 0.02, stop: 0.05};
const COMPLAINTS: Lines = {watch: 0.001, stop: 0.003};
const FEW = 200; // messages below which a rate is shown faintly

const Shown = styled.span<{$tone: 'ink' | 'soft' | 'tarnished' | 'corroded'}>`
  color: ${({$tone}) => colour($tone)};
  font-weight: ${({$tone}) => ($tone === 'tarnished' || $tone === 'corroded' ? 600 : 400)};
`;

/** A line counts as crossed when even the low end of the interval lies beyond it. */
export function toneOf(rate: Rate, lines?: Lines): 'ink' | 'soft' | 'tarnished' | 'corroded' {
  if (lines && rate.low >= lines.stop) return 'corroded';
  if (lines && rate.low >= lines.watch) return 'tarnished';
  return rate.total < FEW ? 'soft' : 'ink';
}

function RateCell({rate, lines}: {rate: Rate | null; lines?: Lines}) {
  if (!rate) return <Small>no mail</Small>;
  return (
    <Shown $tone={toneOf(rate, lines)}>
      {percent(rate.value)}{' '}
      <Small>
        {bare(rate.low)}–{bare(rate.high)}
      </Small>
      <Small style={{display: 'block', whiteSpace: 'nowrap'}}>
        {count(rate.count)} of {count(rate.total)}
      </Small>
    </Shown>
  );
}

function change(row: FlowRow) {
  const before = row.before.delivered;
  if (!before) return '';
  const points = Math.round((100 * (row.counts.delivered - before)) / before);
  return `${points > 0 ? '+' : points < 0 ? '−' : '±'}${Math.abs(points)} %`;
}

/** A time to delivery as people say it. */
export const seconds = (n?: number | null): string =>
  n == null
    ? ''
    : n < 90
      ? `${n < 10 ? n.toFixed(1) : Math.round(n)} s`
      : n < 5400
        ? `${Math.round(n / 60)} min`
        : `${(n / 3600).toFixed(1)} h`;

/** The columns, each with what its numbers are. */
const columnsOf = (flow: Schemas['Flow']): Column<FlowRow>[] => {
  const period = `${day(flow.first_day)} to ${day(flow.last_day)}, days in UTC; the change is against as many days before`;
  const of = flow.domain ? `, of ${flow.domain}` : '';
  const about = (formula: string, source: string, kind: string): Meaning => ({
    formula,
    source: source + of,
    period,
    events: {to: `/flow?tenant=${flow.tenant}&view=trails&kind=${kind}`, label: 'Events of this kind, newest first'},
  });
  return [
    {name: 'Provider', value: (row) => row.label},
    {
      name: 'Delivered',
      about: about(
        'Messages that the provider took. It says nothing about inbox or reading.',
        'Events of kind delivered, each message and recipient once',
        'delivered',
      ),
      value: (row) => row.counts.delivered,
      show: (row) => (
        <>
          {count(row.counts.delivered)} <Small>{change(row)}</Small>
        </>
      ),
      number: true,
    },
    {
      name: 'Permanent',
      about: about(
        'Permanent bounces / messages with a final result (delivered or bounced). Beside it the 95 % interval.',
        'Bounces with a permanent reply (5.x.x), each message and recipient once',
        'bounced',
      ),
      value: (row) => row.permanent?.value,
      show: (row) => <RateCell rate={row.permanent} lines={BOUNCES} />,
      number: true,
    },
    {
      name: 'Transient',
      about: about(
        'Transient bounces / messages with a final result. Beside it the 95 % interval.',
        'Bounces after which another try may succeed (4.x.x, or a full mailbox)',
        'bounced',
      ),
      value: (row) => row.transient?.value,
      show: (row) => <RateCell rate={row.transient} />,
      number: true,
    },
    {
      name: 'Delayed',
      value: (row) => row.delayed?.value,
      show: (row) => <RateCell rate={row.delayed} />,
      number: true,
      about: about(
        'Messages delayed at least once / messages with a final result (delivered or bounced).',
        'Delays, the first of each message',
        'delayed',
      ),
    },
    {
      name: 'Median time',
      about: about(
        'Half of the messages were delivered within this time.',
        'Time from accepted to delivered, counted in steps: right to within 19 %',
        'delivered',
      ),
      value: (row) => row.seconds_p50,
      show: (row) => <Small>{seconds(row.seconds_p50)}</Small>,
      number: true,
    },
    {
      name: '95 % within',
      about: about(
        '19 of 20 messages were delivered within this time.',
        'Time from accepted to delivered, counted in steps: right to within 19 %',
        'delivered',
      ),
      value: (row) => row.seconds_p95,
      show: (row) => <Small>{seconds(row.seconds_p95)}</Small>,
      number: true,
    },
    {
      name: 'Complaints',
      about: about(
        'Complaints / messages delivered and not returned, at providers that report complaints. Beside it the 95 % interval.',
        'Feedback reports (RFC 5965)',
        'complained',
      ),
      value: (row) => row.complaints?.value,
      show: (row) =>
        row.reports_complaints ? <RateCell rate={row.complaints} lines={COMPLAINTS} /> : <Small>no reports</Small>,
      number: true,
    },
    {
      name: 'Unsubscribed',
      about: about(
        'Unsubscribes / messages delivered and not returned.',
        'One-click requests (RFC 8058), unsubscribe mail and events',
        'unsubscribed',
      ),
      value: (row) => row.unsubscribed?.value,
      show: (row) => <RateCell rate={row.unsubscribed ?? null} />,
      number: true,
    },
  ];
};

export const ProvidersTable = ({flow, file}: {flow: Schemas['Flow']; file: string}) => (
  <DataTable
    label="Mail flow by mailbox provider"
    columns={columnsOf(flow)}
    rows={flow.providers}
    id={(row) => row.provider}
    total={flow.total}
    file={file}
  />
);
