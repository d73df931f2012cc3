/** Each day's mail by whose it is: a row of columns for each verdict on one scale of days, aligned mail filled. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Card, Small} from '../../design/Card';
import {ChartView} from '../../design/ChartView';
import type {Column} from '../../design/DataTable';
import {count, day} from '../../design/format';
import {useZoom} from '../../design/zoom';
import {colour, narrow} from '../../design/tokens';
import {aligned, VerdictMark, VERDICTS, WORDS, type Verdict} from './verdicts';

type Day = Schemas['ReportDay'];
const WIDTH = 720;
const HEIGHT = 44;

const Rows = styled.div`
  display: grid;
  grid-template-columns: max-content minmax(0, 1fr) max-content;
  gap: 8px 14px;
  align-items: end;
  > div {
    display: contents;
  }
  svg[role='img'] {
    width: 100%;
    height: ${HEIGHT}px;
    display: block;
  }
  ${narrow} {
    grid-template-columns: minmax(0, 1fr);
    > div {
      display: grid;
      grid-template-columns: 1fr max-content;
    }
    svg[role='img'] {
      grid-column: 1 / -1;
      grid-row: 2;
    }
  }
`;
const Axis = styled.div`
  display: flex;
  justify-content: space-between;
  color: ${colour('soft')};
  font-size: 12px;
`;

function Columns({days, verdict}: {days: Day[]; verdict: Verdict}) {
  const most = Math.max(1, ...days.map((each) => each[verdict].messages));
  const step = WIDTH / days.length;
  const name = `columns-${verdict}`;
  return (
    <svg
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      preserveAspectRatio="none"
      role="img"
      aria-label={`${WORDS[verdict]}: at most ${count(most)} messages a day`}
    >
      <defs>
        <pattern id={name} width="4" height="4" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="2" height="4" fill={colour('corroded')} />
        </pattern>
      </defs>
      <line x1="0" x2={WIDTH} y1={HEIGHT - 0.5} y2={HEIGHT - 0.5} stroke={colour('line')} />
      {days.map((each, index) => {
        const mail = each[verdict];
        if (!mail.messages) return null;
        const tall = ((HEIGHT - 2) * mail.messages) / most;
        const good = (tall * aligned(mail)) / mail.messages;
        const bad = mail.neither ? Math.max(1.5, tall - good) : 0;
        const wide = Math.max(1, step * 0.8);
        return (
          <g key={each.day}>
            <title>{`${day(each.day)}: ${count(mail.messages)} messages, ${count(mail.neither)} not aligned`}</title>
            <rect x={index * step} y={HEIGHT - 1 - good} width={wide} height={good} fill={colour('sound')} />
            {bad > 0 && (
              <rect x={index * step} y={HEIGHT - 1 - good - bad} width={wide} height={bad} fill={`url(#${name})`} />
            )}
          </g>
        );
      })}
    </svg>
  );
}

const columns: Column<Day>[] = [
  {name: 'Day', value: (row) => row.day},
  ...VERDICTS.flatMap((verdict): Column<Day>[] => [
    {name: WORDS[verdict], value: (row) => row[verdict].messages, number: true},
    {name: `${WORDS[verdict]}, not aligned`, value: (row) => row[verdict].neither, number: true},
  ]),
];

export function DaysCard({domain, days: all}: {domain: string; days: Day[]}) {
  const zoom = useZoom(all.map((each) => each.day));
  const days = all.filter((each) => zoom.shows(each.day));
  return (
    <Card
      title="Mail by day"
      note="filled: aligned; hatched: aligned by neither SPF nor DKIM; each row on its own scale"
    >
      <ChartView
        label={`Mail of ${domain} by day`}
        columns={columns}
        rows={[...days].reverse()}
        zoom={zoom}
        id={(row) => row.day}
        file={`reported-mail-${domain}`}
      >
        <Rows>
          {VERDICTS.map((verdict) => {
            const total = days.reduce((sum, each) => sum + each[verdict].messages, 0);
            const bad = days.reduce((sum, each) => sum + each[verdict].neither, 0);
            return (
              <div key={verdict}>
                <VerdictMark verdict={verdict} />
                <Columns days={days} verdict={verdict} />
                <Small style={{textAlign: 'right'}}>
                  {count(total)} messages
                  <br />
                  {count(bad)} not aligned
                </Small>
              </div>
            );
          })}
        </Rows>
        <Axis>
          <span data-chart-text>{days[0] && day(days[0].day)}</span>
          <span data-chart-text>{days.at(-1) && day(days.at(-1)!.day)}</span>
        </Axis>
      </ChartView>
    </Card>
  );
}
