/** What would follow: how many more complaints or bounces until a line, and readings to come with a change that is tried. */
import {useState} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useAhead, useRoom, type Subjected} from './queries';
import {Card, Soft} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {ChartView} from '../../design/ChartView';
import {DataTable} from '../../design/DataTable';
import {count, day, factor, percent} from '../../design/format';
import {Loading, Trouble} from '../../design/Notice';
import {READING_SCALE, TimeChart} from '../../design/TimeChart';
import {colour, space} from '../../design/tokens';

type Headroom = Schemas['Headroom'];
type Factor = Headroom['factor'];
const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.xs} ${space.s};
  align-items: center;
  margin-bottom: ${space.s};
`;
const Key = styled.p`
  font-size: 12px;
  color: ${colour('soft')};
  b {
    color: ${colour('ink')};
  }
`;

export function RoomCard({tenant, of}: {tenant: string; of: Subjected}) {
  const found = useRoom(tenant, of.subject, of.name);
  const left = (n: number | null | undefined, on: string | null | undefined) =>
    n == null ? 'out of scope' : n === 0 ? 'crossed' : `${count(n)} more${on ? `, ${day(on)} at this pace` : ''}`;
  return (
    <Card title="Headroom" note="how many more until a line is reached today">
      {found.isPending && <Loading what="headroom" />}
      {found.error && <Trouble error={found.error} />}
      {found.data && (
        <DataTable
          label="Headroom until the lines"
          columns={[
            {name: 'Factor', value: (row: Headroom) => factor(row.factor)},
            {name: 'At', value: (row) => row.label},
            {
              name: 'Is',
              about: {
                formula:
                  'The rate as the reading sees it: recent days count more, and little mail is drawn towards what is usual.',
                source: 'Events of this sender at this provider.',
                period: 'Today, with the memory of its factor.',
              },
              value: (row) => row.measure,
              show: (row) => (row.measure == null ? '' : percent(row.measure)),
              number: true,
            },
            {
              name: 'Until watch',
              about: {
                formula:
                  'The number of events more, today, at which the rate reaches its watch line; the day is where the pace of two weeks leads.',
                source: 'The same arithmetic as that of the reading.',
                period: 'Today; the next 60 days for the day.',
              },
              value: (row) => row.to_watch,
              show: (row) => left(row.to_watch, row.watch_on),
            },
            {name: 'Until stop', value: (row) => row.to_stop, show: (row) => left(row.to_stop, row.stop_on)},
          ]}
          rows={found.data}
          id={(row) => row.factor + row.provider}
          file={`room-${of.name}.csv`}
        />
      )}
    </Card>
  );
}

const SHARES = [
  {value: '1', label: 'as it is'},
  {value: '0.5', label: 'halved'},
  {value: '0.2', label: 'a fifth'},
  {value: '0', label: 'gone'},
];
const VOLUMES = [
  {value: '1', label: 'same volume'},
  {value: '0.5', label: 'half the volume'},
  {value: '0.2', label: 'a fifth of the volume'},
  {value: '2', label: 'twice the volume'},
  {value: '5', label: 'five times the volume'},
];

export function AheadCard({tenant, of, pulls}: {tenant: string; of: Subjected; pulls: Schemas['Pull'][]}) {
  const factors = [
    ...new Set(
      pulls
        .filter((pull) => pull.points >= 0.5 && pull.unit !== 'times' && pull.unit !== 'doublings')
        .map((pull) => pull.factor),
    ),
  ].slice(0, 5);
  const [volume, setVolume] = useState('1');
  const [remains, setRemains] = useState<Partial<Record<Factor, number>>>({});
  const found = useAhead(tenant, of, {volume: Number(volume), remains, days: 28});
  const changed = volume !== '1' || Object.values(remains).some((share) => share !== 1);
  return (
    <Card title="Forecast" note="the next four weeks, without and with a change">
      <Row>
        <Choice label="Volume" value={volume} options={VOLUMES} onChange={setVolume} />
        {factors.map((name) => (
          <span key={name}>
            {factor(name)}{' '}
            <Choice
              label={`${factor(name)} remaining`}
              value={String(remains[name] ?? 1)}
              options={SHARES}
              onChange={(share) => setRemains({...remains, [name]: Number(share)})}
            />
          </span>
        ))}
        {factors.length === 0 && <Soft>No factor to change.</Soft>}
      </Row>
      {found.isPending && <Loading what="the forecast" />}
      {found.error && <Trouble error={found.error} />}
      {found.data && (
        <ChartView
          label="Forecast by day"
          columns={[
            {name: 'Day', value: (row: Schemas['ForecastDay']) => row.day},
            {name: changed ? 'Without change' : 'Reading', value: (row) => row.unchanged, number: true},
            ...(changed
              ? [{name: 'With change', value: (row: Schemas['ForecastDay']) => row.with_change, number: true}]
              : []),
            {name: 'Margin', value: (row) => row.margin, number: true},
          ]}
          rows={found.data.days}
          id={(row) => row.day}
          file={`ahead-${of.name}`}
        >
          <Chart days={found.data.days} changed={changed} />
        </ChartView>
      )}
      {found.data?.sound_again && (
        <p role="status">
          Sound again on <b>{day(found.data.sound_again)}</b>.
        </p>
      )}
    </Card>
  );
}

function Chart({days, changed}: {days: Schemas['ForecastDay'][]; changed: boolean}) {
  return (
    <>
      <TimeChart
        label="Forecast readings; the table has the figures"
        days={days.map((each) => each.day)}
        height={150}
        {...READING_SCALE}
        curves={[
          {
            name: changed ? 'without change' : 'reading',
            values: days.map((each) => each.unchanged),
            tone: 'soft',
            dashed: true,
            format: String,
          },
          ...(changed
            ? [
                {
                  name: 'with change',
                  values: days.map((each) => each.with_change),
                  tone: 'sound' as const,
                  width: 2,
                  format: String,
                },
              ]
            : []),
        ]}
      />
      <Key>
        {changed ? (
          <>
            Dashed: without change. Green: <b>with change</b>.
          </>
        ) : (
          'If mail goes on as in the last two weeks.'
        )}
      </Key>
    </>
  );
}
