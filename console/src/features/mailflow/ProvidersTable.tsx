/** Mail per provider: rates with their intervals where they say something, beside the period before. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Small} from '../../design/Card';
import {DataTable, type Column} from '../../design/DataTable';
import {bare, count, percent} from '../../design/format';
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

const columns: Column<FlowRow>[] = [
  {name: 'Provider', value: (row) => row.label},
  {
    name: 'Delivered',
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
    value: (row) => row.permanent?.value,
    show: (row) => <RateCell rate={row.permanent} lines={BOUNCES} />,
    number: true,
  },
  {
    name: 'Transient',
    value: (row) => row.transient?.value,
    show: (row) => <RateCell rate={row.transient} />,
    number: true,
  },
  {name: 'Delayed', value: (row) => row.delayed?.value, show: (row) => <RateCell rate={row.delayed} />, number: true},
  {
    name: 'Median delivery time',
    value: (row) => row.seconds_p50,
    show: (row) => <Small>{seconds(row.seconds_p50)}</Small>,
    number: true,
  },
  {
    name: '95 % within',
    value: (row) => row.seconds_p95,
    show: (row) => <Small>{seconds(row.seconds_p95)}</Small>,
    number: true,
  },
  {
    name: 'Complaints',
    value: (row) => row.complaints?.value,
    show: (row) =>
      row.reports_complaints ? <RateCell rate={row.complaints} lines={COMPLAINTS} /> : <Small>no reports</Small>,
    number: true,
  },
  {
    name: 'Unsubscribed',
    value: (row) => row.unsubscribed?.value,
    show: (row) => <RateCell rate={row.unsubscribed ?? null} />,
    number: true,
  },
];

export const ProvidersTable = ({flow, file}: {flow: Schemas['Flow']; file: string}) => (
  <DataTable
    label="Mail flow by mailbox provider"
    columns={columns}
    rows={flow.providers}
    id={(row) => row.provider}
    total={flow.total}
    file={file}
  />
);
