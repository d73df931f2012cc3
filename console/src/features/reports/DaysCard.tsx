/** Each day's mail by whose it is: a row of columns for each verdict on one scale of days, aligned mail filled. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Card, Small} from '../../design/Card';
import {ChartView} from '../../design/ChartView';
import type {Column} from '../../design/DataTable';
import {count} from '../../design/format';
import {HappenedKey, type Annotation} from '../../design/happened';
import {TimeChart} from '../../design/TimeChart';
import {narrow} from '../../design/tokens';
import {useZoom} from '../../design/zoom';
import {useAnnotations} from '../readings/queries';
import {aligned, VerdictMark, VERDICTS, WORDS, type Verdict} from './verdicts';

type Day = Schemas['ReportDay'];
const HEIGHT = 56;
const HIGH = 20; // pixels more for the days below the last row

const Rows = styled.div`
  display: grid;
  grid-template-columns: max-content minmax(0, 1fr) max-content;
  gap: 4px 14px;
  align-items: start;
  > div {
    display: contents;
  }
  ${narrow} {
    grid-template-columns: minmax(0, 1fr);
    > div {
      display: grid;
      grid-template-columns: 1fr max-content;
    }
    [role='slider'] {
      grid-column: 1 / -1;
      grid-row: 2;
    }
  }
`;

interface ColumnsProps {
  days: Day[];
  verdict: Verdict;
  annotations: Annotation[];
  isLast: boolean;
}
function Columns({days, verdict, annotations, isLast}: ColumnsProps) {
  const most = Math.max(1, ...days.map((each) => each[verdict].messages));
  return (
    <TimeChart
      label={`${WORDS[verdict]}: at most ${count(most)} messages a day`}
      days={days.map((each) => each.day)}
      height={isLast ? HEIGHT + HIGH : HEIGHT}
      axis={isLast}
      left={46}
      scale={{high: most, ticks: [0, most], format: count}}
      annotations={annotations}
      columns={[
        {name: 'aligned', values: days.map((each) => aligned(each[verdict])), tone: 'sound', format: count},
        {
          name: 'not aligned',
          values: days.map((each) => each[verdict].neither),
          tone: 'corroded',
          hatched: true,
          format: count,
        },
      ]}
    />
  );
}

const columns: Column<Day>[] = [
  {name: 'Day', value: (row) => row.day},
  ...VERDICTS.flatMap((verdict): Column<Day>[] => [
    {name: WORDS[verdict], value: (row) => row[verdict].messages, number: true},
    {name: `${WORDS[verdict]}, not aligned`, value: (row) => row[verdict].neither, number: true},
  ]),
];

export function DaysCard({tenant, domain, days: all}: {tenant: string; domain: string; days: Day[]}) {
  const first = all[0]?.day ?? '';
  const annotations = useAnnotations(tenant, first, domain, first !== '').data ?? [];
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
          {VERDICTS.map((verdict, i) => {
            const total = days.reduce((sum, each) => sum + each[verdict].messages, 0);
            const bad = days.reduce((sum, each) => sum + each[verdict].neither, 0);
            return (
              <div key={verdict}>
                <VerdictMark verdict={verdict} />
                <Columns days={days} verdict={verdict} annotations={annotations} isLast={i === VERDICTS.length - 1} />
                <Small style={{textAlign: 'right'}}>
                  {count(total)} messages
                  <br />
                  {count(bad)} not aligned
                </Small>
              </div>
            );
          })}
        </Rows>
        <HappenedKey annotations={annotations} first={zoom.first} last={zoom.last} />
      </ChartView>
    </Card>
  );
}
