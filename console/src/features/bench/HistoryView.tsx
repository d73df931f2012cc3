/** A template over time: marks, the reading beside them, and how much of the spread goes with the path. */
import {Link} from 'react-router';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card, Small, Soft} from '../../design/Card';
import {ChartView} from '../../design/ChartView';
import {DataTable} from '../../design/DataTable';
import {day, inZone, plural, stamp} from '../../design/format';
import {Loading, Trouble} from '../../design/Notice';
import {Stack} from '../../design/Stack';
import {HappenedKey} from '../../design/happened';
import {TimeChart} from '../../design/TimeChart';
import {useAnnotations} from '../readings/queries';
import {InInbox} from '../placement/Landed';
import {useHistory} from './queries';
import {Mono, Whole} from './TraysCard';

const MARK_SCALE = {scale: {high: 100, ticks: [0, 50, 100]}, grid: [50], left: 34};
type Point = Schemas['SeriesPoint'];
const moment = (text: string) => stamp(text).slice(0, 16);

interface HistoryProps {
  path: {tenant: string; name: string};
  template: string;
  onOpen: (id: number) => void;
}

export function HistoryView({path, template, onOpen}: HistoryProps) {
  const found = useHistory(path, template);
  const days = (found.data?.points ?? []).map((each) => each.arrived_at.slice(0, 10));
  const [first = '', last = ''] = [days[0], days.at(-1)];
  const annotations = useAnnotations(path.tenant, first, found.data?.domain, first !== '').data ?? [];
  if (found.isPending) return <Loading what="the history" />;
  if (found.error) return <Trouble error={found.error} again={() => void found.refetch()} />;
  const {points, examined, least, most, mean, paths, share_of_path, rules, domain, placement} = found.data;
  const hasReading = points.some((each) => each.reading != null);
  return (
    <Card
      title={template || '(no subject)'}
      note={`${plural(points.length, 'message')} of ${domain}, ${examined} examined`}
    >
      <Stack>
        {mean != null && (
          <p role="status" style={{margin: 0}}>
            Marks {least} to {most}, mean {mean}.{' '}
            {share_of_path != null && (
              <b>{Math.round(share_of_path * 100)} % of their variance goes with the path the messages took.</b>
            )}
          </p>
        )}
        <ChartView
          label="Marks over time"
          file="history"
          rows={points}
          id={(row: Point) => String(row.id)}
          columns={[
            {
              name: 'Message',
              value: (row) => row.id,
              show: (row) => (
                <Button tone="link" needs="viewer" onPress={() => onOpen(row.id)}>
                  {row.id}
                </Button>
              ),
            },
            {name: inZone('Arrived'), value: (row) => row.arrived_at, show: (row) => moment(row.arrived_at)},
            {name: 'Mark', value: (row) => row.mark, number: true},
            {name: 'Client', value: (row) => row.client_ip, show: (row) => <Whole>{row.client_ip}</Whole>},
            {name: `Reading of ${domain}`, value: (row) => row.reading, number: true},
          ]}
        >
          <TimeChart
            label="Marks over time"
            days={points.map((each) => each.arrived_at)}
            height={220}
            {...MARK_SCALE}
            written={first === last ? (at) => moment(at).slice(11) : day}
            texts={(at) => [
              moment(points[at]!.arrived_at),
              ...(points[at]!.mark == null ? [] : [`Mark: ${points[at]!.mark}`]),
              ...(points[at]!.reading == null ? [] : [`Reading of ${domain}: ${points[at]!.reading}`]),
            ]}
            annotations={annotations}
            curves={[
              ...(hasReading
                ? [
                    {
                      name: `Reading of ${domain}`,
                      values: points.map((each) => each.reading),
                      tone: 'soft' as const,
                      dashed: true,
                      bridged: true,
                    },
                  ]
                : []),
              {
                name: 'Mark',
                values: points.map((each) => each.mark),
                tone: 'rust',
                dotted: true,
                bridged: true,
              },
            ]}
          />
          <Small>Mark, full line{hasReading && '; reading of the From domain on that day, dashed'}</Small>
          <HappenedKey annotations={annotations} first={first} last={last} />
        </ChartView>
        {paths.length > 1 && (
          <DataTable
            label="Paths"
            file="paths.csv"
            rows={paths}
            id={(row) => `${row.client_ip} ${row.helo}`}
            columns={[
              {
                name: 'Path',
                value: (row) => `${row.client_ip} ${row.helo}`,
                show: (row) => <Mono>{`${row.client_ip} ${row.helo}`}</Mono>,
              },
              {name: 'Messages', value: (row) => row.count, number: true},
              {name: 'Mean mark', value: (row) => row.mean, number: true},
              {name: 'Least', value: (row) => row.least, number: true},
              {name: 'Most', value: (row) => row.most, number: true},
            ]}
          />
        )}
        {placement.length > 0 && (
          <DataTable
            label="Placement of this template"
            file="placement-of-template.csv"
            rows={[...placement].reverse()}
            id={(row) => String(row.run)}
            columns={[
              {
                name: 'Placement run',
                value: (row) => row.run,
                show: (row) => <Link to={`/placement/${path.tenant}/${row.run}`}>{row.run}</Link>,
              },
              {name: inZone('Started'), value: (row) => row.at, show: (row) => moment(row.at)},
              {name: 'Outlet', value: (row) => row.outlet},
              {
                name: 'Inbox',
                value: (row) => row.inbox?.value ?? null,
                show: (row) => <InInbox rate={row.inbox} />,
              },
            ]}
          />
        )}
        {rules.length > 0 && (
          <div>
            {rules.map((each) => (
              <p key={each.rule} style={{margin: '0 0 4px'}}>
                {each.title.replace(/\{\w+\}/g, '…')}: {Math.min(...each.points)} to {Math.max(...each.points)} points,
                in {each.seen} of {examined} messages
              </p>
            ))}
          </div>
        )}
        {examined > 1 && rules.length === 0 && <Soft>Every rule took the same from all of them.</Soft>}
      </Stack>
    </Card>
  );
}
