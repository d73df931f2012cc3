/** Readings of all domains, streams, relays or sending addresses: this period beside the one before, and some of them together. */
import {useState} from 'react';
import {Link} from 'react-router';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useWall} from '../wall/queries';
import {useAnnotations, type Subject} from './queries';
import {Button, Go} from '../../design/Button';
import {Card, Soft} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {ChartView} from '../../design/ChartView';
import {DataTable} from '../../design/DataTable';
import {count, factor, firstDay, short} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Plate} from '../../design/Plate';
import {Spark} from '../../design/Spark';
import {HappenedKey} from '../../design/happened';
import {READING_SCALE, TimeChart} from '../../design/TimeChart';
import {colour, space} from '../../design/tokens';
import {useZoom} from '../../design/zoom';
import {useView} from '../../shell/view';

type Row = Schemas['WallRow'];
export const SUBJECTS: {value: Subject; label: string}[] = [
  {value: 'domain', label: 'Domains'},
  {value: 'stream', label: 'Streams'},
  {value: 'relay', label: 'Relays'},
  {value: 'ip', label: 'Sending addresses'},
];
const HUES = ['ink', 'rust', 'sound', 'tarnished', 'seized', 'soft'] as const;
const MOST = HUES.length;
const Stack = styled.div`
  display: grid;
  gap: ${space.l};
  grid-template-columns: minmax(0, 1fr);
`;
const Head = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s} ${space.m};
  align-items: baseline;
  p {
    color: ${colour('soft')};
  }
`;
const Name = styled.span`
  display: inline-flex;
  gap: 8px;
  align-items: center;
`;

export const pathOf = (row: Row, subject: Subject): string =>
  subject === 'domain'
    ? `/domains/${row.tenant}/${row.name}`
    : `/readings/${row.tenant}/${subject}/${encodeURIComponent(row.name)}`;
const whole = (row: Row) => row.cells.find((cell) => cell.provider === '(all)')!;

/** The mean of known values; null where none is known. */
export function mean(values: (number | null)[]): number | null {
  const known = values.filter((value): value is number => value != null);
  return known.length ? known.reduce((sum, value) => sum + value, 0) / known.length : null;
}

export function ReadingsPage() {
  const view = useView(30);
  const subject = (SUBJECTS.find((each) => each.value === view.get('subject'))?.value ?? 'domain') as Subject;
  const days = Math.min(view.days, 90);
  const wall = useWall({days: 2 * days, tenant: view.tenant || undefined, subject, order: 'worst'});
  const [chosen, setChosen] = useState<string[]>([]);
  const id = (row: Row) => `${row.tenant}/${row.name}`;
  const toggle = (row: Row) =>
    setChosen(chosen.includes(id(row)) ? chosen.filter((each) => each !== id(row)) : [...chosen, id(row)].slice(-MOST));
  if (wall.isPending) return <Loading what="readings" />;
  if (wall.error) return <Trouble error={wall.error} again={() => void wall.refetch()} />;
  const rows = wall.data.rows.filter((row) => whole(row).trend.some((value) => value != null));
  const now = (row: Row) => mean(whole(row).trend.slice(-days));
  const before = (row: Row) => mean(whole(row).trend.slice(0, days));
  const change = (row: Row) => (now(row) != null && before(row) != null ? now(row)! - before(row)! : null);
  const worst = (row: Row) =>
    row.cells.filter((cell) => cell.provider !== '(all)' && cell.value != null).sort((a, b) => a.value! - b.value!)[0];
  const label = (provider: string) =>
    wall.data.columns.find((column) => column.provider === provider)?.label ?? provider;
  const fell = rows.filter((row) => (change(row) ?? 0) < -3).length;
  const shown = rows.filter((row) => chosen.includes(id(row)));
  return (
    <Stack>
      <Head>
        <h1>Readings</h1>
        <Choice
          label="Show"
          value={subject}
          options={SUBJECTS}
          onChange={(value) => {
            setChosen([]);
            view.go('subject', value === 'domain' ? '' : value);
          }}
        />
        <p>
          <Link to={`/report?days=${days}${view.tenant && `&tenant=${view.tenant}`}`}>Client report</Link>. Last {days}{' '}
          days compared with the {days} before. {fell ? <b>{fell} lower than before.</b> : 'None lower than before.'}
        </p>
      </Head>
      {shown.length > 0 && (
        <Card
          title="Comparison"
          note={`over all providers, ${2 * days} days`}
          actions={<Button onPress={() => setChosen([])}>Clear</Button>}
        >
          <Together rows={shown} first={firstDay(2 * days)} subject={subject} />
        </Card>
      )}
      {rows.length === 0 ? (
        <Notice title="No readings in this period">
          A reading needs about thirty messages at a mailbox provider within recent days. Events come by a feed.
          <Go to={`/flow?${view.tenant && `tenant=${view.tenant}&`}view=feeds`}>Add a feed</Go>
        </Notice>
      ) : (
        <Card
          title={SUBJECTS.find((each) => each.value === subject)!.label}
          note={`choose up to ${MOST} to compare${wall.hasNextPage ? `; the ${count(wall.data.rows.length)} lowest of ${count(wall.data.summary.subjects)}` : ''}`}
          actions={
            wall.hasNextPage && (
              <Button isDisabled={wall.isFetchingNextPage} onPress={() => void wall.fetchNextPage()}>
                {wall.isFetchingNextPage ? 'Loading…' : 'Show more'}
              </Button>
            )
          }
        >
          <DataTable
            label="Readings"
            columns={[
              {
                name: '',
                value: () => '',
                show: (row: Row) => (
                  <input
                    type="checkbox"
                    aria-label={`Show ${row.name} in the chart`}
                    checked={chosen.includes(id(row))}
                    onChange={() => toggle(row)}
                  />
                ),
                tool: true,
              },
              {
                name: 'Name',
                value: (row) => row.name,
                show: (row) => (
                  <Name>
                    <Plate value={whole(row).value} margin={whole(row).margin} width={11} height={20} />{' '}
                    <Link to={pathOf(row, subject)}>{row.name}</Link>
                  </Name>
                ),
              },
              {name: 'Tenant', value: (row) => row.tenant_name},
              {
                name: `Delivered, ${2 * days} days`,
                value: (row) => row.delivered,
                show: (row) => short(row.delivered),
                number: true,
              },
              {name: 'Today', value: (row) => whole(row).value, number: true},
              {
                name: 'This period',
                about: {
                  formula: 'Mean of the readings of the days on which there was enough mail.',
                  source: 'Readings over all mailbox providers, weighted by recent mail.',
                  period: `The last ${days} days; “Before” are the ${days} days before them.`,
                },
                value: (row) => now(row),
                show: (row) => now(row)?.toFixed(1),
                number: true,
              },
              {name: 'Before', value: (row) => before(row), show: (row) => before(row)?.toFixed(1), number: true},
              {name: 'Change', value: change, show: (row) => <Change value={change(row)} />, number: true},
              {
                name: 'Trend',
                value: (row) => whole(row).trend.join(' '),
                show: (row) => <Spark values={whole(row).trend} condition={whole(row).condition} width={90} />,
              },
              {
                name: 'Lowest provider',
                value: (row) => (worst(row) ? label(worst(row)!.provider) : ''),
                show: (row) => (worst(row) ? `${label(worst(row)!.provider)} ${Math.round(worst(row)!.value!)}` : ''),
              },
              {
                name: 'Main factor',
                value: (row) =>
                  row.heaviest
                    ? `${row.heaviest.points} ${factor(row.heaviest.factor).toLowerCase()}, ${row.heaviest.label}`
                    : '',
                show: (row) =>
                  row.heaviest && (
                    <span style={{whiteSpace: 'normal', display: 'block', minWidth: 110}}>
                      {row.heaviest.points} {factor(row.heaviest.factor).toLowerCase()}, {row.heaviest.label}
                    </span>
                  ),
              },
            ]}
            rows={[...rows].sort((a, b) => (whole(a).value ?? 101) - (whole(b).value ?? 101))}
            id={id}
            file={`readings-${subject}.csv`}
          />
        </Card>
      )}
    </Stack>
  );
}

function Change({value}: {value: number | null}) {
  if (value == null) return <Soft>new</Soft>;
  const loud = Math.abs(value) >= 3;
  return (
    <span style={{color: loud ? colour(value < 0 ? 'corroded' : 'sound') : undefined}}>
      {value <= -0.05 ? '−' : '+'}
      {Math.abs(value).toFixed(1)}
    </span>
  );
}

function Together({rows, first, subject}: {rows: Row[]; first: string; subject: Subject}) {
  const start = new Date(`${first}T00:00:00Z`).getTime();
  const length = whole(rows[0]!).trend.length;
  const all = Array.from({length}, (_, i) => ({
    day: new Date(start + i * 86_400_000).toISOString().slice(0, 10),
    ...Object.fromEntries(rows.map((row) => [row.name, whole(row).trend[i]])),
  }));
  const zoom = useZoom(all.map((each) => each.day));
  // What happened to one domain says nothing about the others: with several, what is the tenant's own.
  const tenants = new Set(rows.map((row) => row.tenant));
  const domain = rows.length === 1 && subject === 'domain' ? rows[0]!.name : undefined;
  const found = useAnnotations(rows[0]!.tenant, first, domain).data ?? [];
  const annotations = tenants.size === 1 ? found.filter((each) => domain || !each.domain) : [];
  const data = all.filter((each) => zoom.shows(each.day));
  return (
    <ChartView
      label="Readings compared"
      file="readings-compared"
      columns={[
        {name: 'Day', value: (each: (typeof data)[number]) => each.day},
        ...rows.map((row) => ({
          name: row.name,
          value: (each: (typeof data)[number]) =>
            (each as Record<string, number | string | null | undefined>)[row.name],
          number: true,
        })),
      ]}
      rows={[...data].reverse()}
      zoom={zoom}
      id={(each) => each.day}
    >
      <TimeChart
        label={`Readings of ${rows.map((row) => row.name).join(', ')}; the table has the figures`}
        days={data.map((each) => each.day)}
        height={220}
        {...READING_SCALE}
        annotations={annotations}
        curves={rows.map((row, i) => ({
          name: row.name,
          values: data.map(
            (each) => (each as Record<string, number | string | null | undefined>)[row.name] as number | null,
          ),
          tone: HUES[i]!,
          dashed: i % 2 === 1,
          width: 1.8,
          format: String,
        }))}
      />
      <HappenedKey annotations={annotations} first={zoom.first} last={zoom.last} />
      <Head as="p" style={{fontSize: 12}}>
        {rows.map((row, i) => (
          <span key={row.name} data-chart-text style={{color: colour(HUES[i]!)}}>
            {i % 2 ? '- - ' : '— '}
            {row.name}
          </span>
        ))}
      </Head>
    </ChartView>
  );
}
