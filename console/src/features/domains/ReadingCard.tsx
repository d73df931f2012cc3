import {useState} from 'react';
import {Area, CartesianGrid, ComposedChart, Line, ResponsiveContainer, Tooltip, XAxis, YAxis} from 'recharts';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {DataTable} from '../../design/DataTable';
import {day, factor} from '../../design/format';
import {Notice} from '../../design/Notice';
import {colour, conditions, floors} from '../../design/tokens';

type Reading = Schemas['Reading'];

const Tip = styled.div`
  background: ${colour('sheet')};
  border: 1px solid ${colour('line')};
  padding: 6px 10px;
  font-size: 12px;
  p { color: ${colour('soft')}; }
`;

const AXIS = {left: 34, bottom: 24, top: 6};

/** The conditions beside the axis: where each begins and ends. */
const Strip = styled.div`
  position: absolute;
  left: ${AXIS.left - 6}px;
  top: ${AXIS.top}px;
  bottom: ${AXIS.bottom}px;
  width: 5px;
  background: linear-gradient(
    to top,
    ${[...conditions]
      .reverse()
      .map((each, i, all) => `${colour(each)} ${floors[each]}% ${i + 1 < all.length ? floors[all[i + 1]!] : 100}%`)
      .join(', ')}
  );
`;

interface ReadingCardProps {
  readings: Reading[];
  provider: string;
  providers: {value: string; label: string}[];
  onProvider: (provider: string) => void;
  file: string;
}

export function ReadingCard({readings, provider, providers, onProvider, file}: ReadingCardProps) {
  const [table, setTable] = useState(false);
  const known = readings.filter((each) => each.value != null);
  return (
    <Card
      title="Reading"
      note="with its margin"
      actions={
        <>
          <Choice label="Mailbox provider" value={provider} options={providers} onChange={onProvider} />
          <Button onPress={() => setTable(!table)}>{table ? 'Show the chart' : 'Show as table'}</Button>
        </>
      }
    >
      {known.length === 0 ? (
        <Notice title="Too little mail to say">A reading needs some thirty recent messages at this provider.</Notice>
      ) : table ? (
        <DataTable
          label="Readings by day"
          columns={[
            {name: 'Day', value: (row: Reading) => row.day},
            {name: 'Reading', value: (row) => row.value, number: true},
            {name: 'Margin', value: (row) => row.margin, number: true},
            {name: 'Condition', value: (row) => row.condition ?? 'too little mail'},
            {name: 'Recent mail', value: (row) => Math.round(row.mail), number: true},
            {name: 'Heaviest pull', value: heaviest},
          ]}
          rows={[...readings].reverse()}
          id={(row) => row.day}
          file={file}
        />
      ) : (
        <Chart readings={readings} />
      )}
    </Card>
  );
}

const heaviest = (row: Reading): string => {
  const pull = row.pulls?.[0];
  return pull && pull.points >= 1 ? `${pull.points} ${factor(pull.factor).toLowerCase()}, ${pull.label}` : '';
};

function Chart({readings}: {readings: Reading[]}) {
  const data = readings.map((each) => ({
    ...each,
    band:
      each.value == null
        ? null
        : [Math.max(0, each.value - (each.margin ?? 0)), Math.min(100, each.value + (each.margin ?? 0))],
  }));
  const tick = {fontSize: 11, fill: colour('soft')};
  const first = readings[0]!.day;
  return (
    <div style={{height: 230, position: 'relative'}} role="img" aria-label={`Readings from ${day(first)} to today; the table holds the figures`}>
      <Strip />
      <ResponsiveContainer>
        <ComposedChart data={data} margin={{top: AXIS.top, right: 8, bottom: 0, left: 0}}>
          <CartesianGrid vertical={false} stroke={colour('line')} strokeDasharray="2 4" horizontalValues={[35, 60, 80]} />
          <XAxis dataKey="day" height={AXIS.bottom} tickFormatter={day} tick={tick} tickLine={false} stroke={colour('line')} minTickGap={56} />
          <YAxis width={AXIS.left} domain={[0, 100]} ticks={[0, 35, 60, 80, 100]} tick={tick} tickLine={false} axisLine={false} />
          <Area dataKey="band" fill={colour('soft')} fillOpacity={0.2} stroke="none" isAnimationActive={false} />
          <Line dataKey="value" stroke={colour('ink')} strokeWidth={1.8} dot={false} isAnimationActive={false} />
          <Tooltip
            cursor={{stroke: colour('rust')}}
            content={({payload}) => {
              const each = payload?.[0]?.payload as Reading | undefined;
              if (!each) return null;
              return (
                <Tip>
                  <b>
                    {day(each.day)}: {each.value == null ? 'too little mail' : `${each.value} ± ${each.margin}, ${each.condition}`}
                  </b>
                  <p>{heaviest(each)}</p>
                  {each.provisional && <p>The day is not over.</p>}
                </Tip>
              );
            }}
          />
        </ComposedChart>
      </ResponsiveContainer>
    </div>
  );
}
