/** Placement over time: a strip of runs for each provider, the day it turned, and what else changed then. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Card, Small, Soft} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {ChartView} from '../../design/ChartView';
import {DataTable} from '../../design/DataTable';
import {day, inZone, plural, stamp, words} from '../../design/format';
import {Loading, Trouble} from '../../design/Notice';
import {Row, Stack} from '../../design/Stack';
import {useZoom} from '../../design/zoom';
import {useView} from '../../shell/view';
import {colour} from '../../design/tokens';
import {useHistory} from './queries';

type Provider = Schemas['ProviderHistory'];
type Point = Schemas['PlacementPoint'];
const WIDTH = 620;
const HEIGHT = 36;

const Strips = styled.div`
  display: grid;
  grid-template-columns: max-content minmax(180px, ${WIDTH}px) minmax(220px, 1fr);
  gap: 10px 14px;
  align-items: center;
  svg {
    width: 100%;
    height: ${HEIGHT}px;
  }
  @media (max-width: 860px) {
    grid-template-columns: 1fr;
    gap: 4px;
  }
`;

const Dates = styled.div`
  display: flex;
  justify-content: space-between;
  margin-top: -12px;
  @media (max-width: 860px) {
    margin-top: 0;
  }
  color: ${colour('soft')};
  font-size: 12px;
  font-variant-numeric: tabular-nums;
`;

interface StripProps {
  provider: Provider;
  since: number;
  until: number;
  by: 'run' | 'day';
}
type Column = Pick<Point, 'at' | 'inbox' | 'other' | 'spam' | 'lost' | 'judged'> & {runs: number};

/** Runs of one day as one column: beside each other they would cover each other. */
export function byDay(points: Point[]): Column[] {
  const days = new Map<string, Column>();
  for (const {at, inbox, other, spam, lost, judged} of points) {
    if (judged === 0) continue;
    const there = days.get(at.slice(0, 10)) ?? {at, inbox: 0, other: 0, spam: 0, lost: 0, judged: 0, runs: 0};
    days.set(at.slice(0, 10), {
      at,
      inbox: there.inbox + inbox,
      other: there.other + other,
      spam: there.spam + spam,
      lost: there.lost + lost,
      judged: there.judged + judged,
      runs: there.runs + 1,
    });
  }
  return [...days.values()];
}

const DAY = 86_400_000; // milliseconds

/** The days up to a moment, ISO, the last one today's. */
const daysUntil = (until: number, days: number): string[] =>
  Array.from({length: days}, (_, i) => new Date(until - (days - 1 - i) * DAY).toISOString().slice(0, 10));

const pointsIn = <P extends {at: string}>(points: P[], since: number, until: number): P[] =>
  points.filter((each) => Date.parse(each.at) >= since && Date.parse(each.at) <= until);

const place = (since: number, until: number) => (iso: string) =>
  ((new Date(iso).getTime() - since) / Math.max(1, until - since)) * (WIDTH - 14) + 7;

/** What else changed, as marks on the same axis: one for each day. */
function Changes({changes, since, until}: {changes: Schemas['TurnChange'][]; since: number; until: number}) {
  const at = place(since, until);
  const shown = changes.filter((each) => Date.parse(each.day) >= since - DAY && Date.parse(each.day) <= until);
  const days = new Map(shown.map(({day}) => [day, changes.filter((each) => each.day === day)]));
  return (
    <>
      <span>Changes</span>
      <svg
        role="img"
        aria-label={plural(days.size, 'day') + ' with changes'}
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        preserveAspectRatio="none"
      >
        <line x1="0" x2={WIDTH} y1={HEIGHT / 2} y2={HEIGHT / 2} stroke={colour('line')} />
        {[...days].map(([of, those]) => (
          <path
            key={of}
            d={`M${at(of) - 4} ${HEIGHT / 2 + 4} L${at(of)} ${HEIGHT / 2 - 5} L${at(of) + 4} ${HEIGHT / 2 + 4} Z`}
            fill={colour(those.some((each) => each.kind === 'record') ? 'rust' : 'soft')}
          >
            <title>{`${day(of)}: ${those.map((each) => each.text).join('; ')}`}</title>
          </path>
        ))}
      </svg>
      <Small>
        {days.size ? `${plural(days.size, 'day')} with changes; the table lists them` : 'nothing else changed'}
      </Small>
    </>
  );
}

/** The strip: a column for each run, from the ground up inbox, another category, spam, missing or refused. */
function Strip({provider, since, until, by}: StripProps) {
  const points = byDay(pointsIn(provider.points, since, until));
  const at = place(since, until);
  const reading = pointsIn(
    provider.readings.map((each) => ({...each, at: each.day})),
    since - DAY,
    until,
  ).map((each) => `${at(each.day)},${HEIGHT - 1 - ((HEIGHT - 4) * each.value) / 100}`);
  const step = Math.min(12, Math.max(1.5, (WIDTH - 14) / Math.max(1, points.length) - 1));
  const parts = ['inbox', 'other', 'spam', 'lost'] as const;
  return (
    <svg
      role="img"
      aria-label={`${provider.label}: ${plural(provider.points.length, by)}`}
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      preserveAspectRatio="none"
    >
      <defs>
        <pattern id="placement-other" width="5" height="5" patternUnits="userSpaceOnUse">
          <rect width="2" height="5" fill={colour('sound')} />
        </pattern>
        <pattern id="placement-spam" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="3" height="5" fill={colour('corroded')} />
        </pattern>
      </defs>
      <line x1="0" x2={WIDTH} y1={HEIGHT - 0.5} y2={HEIGHT - 0.5} stroke={colour('line')} />
      {points.map((point) => {
        let ground = HEIGHT - 1;
        return (
          <g key={point.at}>
            <title>{`${day(point.at)}: ${point.inbox} of ${point.judged} in the inbox, ${plural(point.runs, 'run')}`}</title>
            {parts.map((part) => {
              const tall = ((HEIGHT - 4) * point[part]) / point.judged;
              ground -= tall;
              return (
                tall > 0 && (
                  <rect
                    key={part}
                    x={at(point.at) - step / 2}
                    y={ground}
                    width={step}
                    height={tall}
                    fill={FILL[part]}
                    stroke={part === 'inbox' || part === 'lost' ? undefined : STROKE[part]}
                    strokeWidth={0.6}
                  />
                )
              );
            })}
          </g>
        );
      })}
      {reading.length > 1 && (
        <polyline points={reading.join(' ')} fill="none" stroke={colour('ink')} strokeWidth={1.4}>
          <title>{`Reading, last ${provider.readings.at(-1)!.value}`}</title>
        </polyline>
      )}
      {provider.turn && (
        <line
          x1={(at(provider.turn.at) + at(provider.turn.last_before)) / 2}
          x2={(at(provider.turn.at) + at(provider.turn.last_before)) / 2}
          y1={0}
          y2={HEIGHT}
          stroke={colour('ink')}
          strokeWidth={1.6}
          strokeDasharray="3 2"
        />
      )}
    </svg>
  );
}

const FILL = {
  inbox: colour('sound'),
  other: 'url(#placement-other)',
  spam: 'url(#placement-spam)',
  lost: colour('seized'),
};
const STROKE = {other: colour('sound'), spam: colour('corroded')};

export function HistoryCard({tenant}: {tenant: string}) {
  const view = useView(90, 365);
  const days = view.days;
  const outlet = view.get('outlet');
  const history = useHistory(tenant, days, outlet);
  const zoom = useZoom(history.dataUpdatedAt ? daysUntil(history.dataUpdatedAt, days) : []);
  if (history.isPending) return <Loading what="placement over time" />;
  if (history.error) return <Trouble error={history.error} again={() => void history.refetch()} />;
  const {providers, runs, outlets, by, domain, changes} = history.data;
  if (runs === 0 && !outlet && !view.get('days')) return null;
  const until = zoom.isPart ? Date.parse(`${zoom.last}T23:59:59Z`) : history.dataUpdatedAt;
  const since = zoom.isPart ? Date.parse(`${zoom.first}T00:00:00Z`) : until - days * DAY;
  const rows = providers.flatMap((each) => {
    const readings = new Map(each.readings.map((of) => [of.day, of.value]));
    return pointsIn(each.points, since, until).map((point) => ({
      ...point,
      provider: each.label,
      reading: readings.get(point.at.slice(0, 10)) ?? null,
    }));
  });
  return (
    <Card
      title="Placement over time"
      note={plural(runs, 'run')}
      actions={
        <Row>
          <Choice
            label="Outlet"
            value={outlet}
            options={[{value: '', label: 'All outlets'}, ...outlets.map((each) => ({value: each, label: each}))]}
            onChange={(value) => view.set('outlet', value)}
          />
        </Row>
      }
    >
      <ChartView
        label="Placement over time"
        file={`placement-history-${tenant}`}
        rows={rows}
        zoom={zoom}
        id={(row) => `${row.provider} ${row.run} ${row.at}`}
        columns={[
          {name: 'Provider', value: (row) => row.provider},
          {name: 'Run', value: (row) => row.run || null, number: true},
          {name: inZone('Started'), value: (row) => row.at, show: (row) => stamp(row.at).slice(0, 16)},
          {name: 'Outlet', value: (row) => row.outlet},
          {name: 'Inbox', value: (row) => row.inbox, number: true},
          {name: 'Another category', value: (row) => row.other, number: true},
          {name: 'Spam', value: (row) => row.spam, number: true},
          {name: 'Missing or refused', value: (row) => row.lost, number: true},
          {name: 'Known', value: (row) => row.judged, number: true},
          {name: 'Reading', value: (row) => row.reading, number: true},
        ]}
        more={
          <DataTable
            label="What else changed"
            file={`placement-changes-${tenant}.csv`}
            rows={changes.map((each, number) => ({...each, number}))}
            id={(row) => String(row.number)}
            columns={[
              {name: 'Day', value: (row) => row.day, show: (row) => day(row.day)},
              {name: 'Kind', value: (row) => words(row.kind)},
              {name: 'What changed', value: (row) => row.text},
            ]}
          />
        }
      >
        <Stack>
          <Strips>
            {providers.map((each) => (
              <Provider key={each.provider} provider={each} since={since} until={until} by={by} />
            ))}
            <Changes changes={changes} since={since} until={until} />
            <span />
            <Dates aria-hidden>
              {[0, 1, 2, 3].map((part) => (
                <span key={part} data-chart-text>
                  {day(new Date(until - ((until - since) * (3 - part)) / 3).toISOString())}
                </span>
              ))}
            </Dates>
            <span />
          </Strips>
          <Small>
            A column is a day with runs; from the ground up: inbox (full), another category (upright lines), spam
            (slanted lines), missing or refused (dark). The dashed line is where placement turned, the thin one is the
            reading of {domain || 'the domain'} there. Triangles are days on which something else changed, red ones
            records.
          </Small>
        </Stack>
      </ChartView>
    </Card>
  );
}

function Provider({provider, since, until, by}: StripProps) {
  const {turn} = provider;
  return (
    <>
      <span data-chart-text>{provider.label}</span>
      <Strip provider={provider} since={since} until={until} by={by} />
      {turn ? (
        <div>
          <b>
            {turn.worse ? 'Worse' : 'Better'} since {day(turn.at)}
          </b>
          : {turn.before.count} of {turn.before.total} in the inbox before, {turn.after.count} of {turn.after.total}{' '}
          since.
          {turn.changes.map((change, number) => (
            <div key={number}>
              <Small>
                {day(change.day)}: {change.text}
              </Small>
            </div>
          ))}
          {turn.changes.length === 0 && <Small> Nothing else that is known here changed then.</Small>}
        </div>
      ) : (
        <Soft>{provider.points.length < 4 ? 'too few runs to tell' : 'no clear turn'}</Soft>
      )}
    </>
  );
}
