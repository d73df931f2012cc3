/** Placement over time: a strip of runs for each provider, the day it turned, and what else changed then. */
import {useState} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card, Small, Soft} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {DataTable} from '../../design/DataTable';
import {day, plural} from '../../design/format';
import {Loading, Trouble} from '../../design/Notice';
import {Row, Stack} from '../../design/Stack';
import {colour} from '../../design/tokens';
import {useHistory} from './queries';

type Provider = Schemas['ProviderHistory'];
type Point = Schemas['PlacementPoint'];
const PERIODS = [30, 90, 180, 365];
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

/** The strip: a column for each run, from the ground up inbox, another category, spam, missing or refused. */
function Strip({provider, since, until}: {provider: Provider; since: number; until: number}) {
  const points = byDay(provider.points);
  const at = (iso: string) => ((new Date(iso).getTime() - since) / Math.max(1, until - since)) * (WIDTH - 14) + 7;
  const step = Math.min(12, Math.max(1.5, (WIDTH - 14) / Math.max(1, points.length) - 1));
  const parts = ['inbox', 'other', 'spam', 'lost'] as const;
  return (
    <svg
      role="img"
      aria-label={`${provider.provider}: ${plural(provider.points.length, 'run')}`}
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
  const [days, setDays] = useState(90);
  const [outlet, setOutlet] = useState('');
  const [table, setTable] = useState(false);
  const history = useHistory(tenant, days, outlet);
  if (history.isPending) return <Loading what="placement over time" />;
  if (history.error) return <Trouble error={history.error} again={() => void history.refetch()} />;
  const {providers, runs, outlets} = history.data;
  if (runs === 0 && !outlet && days === 90) return null;
  const until = history.dataUpdatedAt;
  const rows = providers.flatMap((each) => each.points.map((point) => ({...point, provider: each.provider})));
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
            onChange={setOutlet}
          />
          <Choice
            label="Period of placement"
            value={String(days)}
            options={PERIODS.map((each) => ({value: String(each), label: `Last ${each} days`}))}
            onChange={(value) => setDays(Number(value))}
          />
          <Button needs="viewer" onPress={() => setTable(!table)}>
            {table ? 'Show chart' : 'Show table'}
          </Button>
        </Row>
      }
    >
      {table ? (
        <DataTable
          label="Placement over time"
          file={`placement-history-${tenant}.csv`}
          rows={rows}
          id={(row) => `${row.provider} ${row.run}`}
          columns={[
            {name: 'Provider', value: (row) => row.provider},
            {name: 'Run', value: (row) => row.run, number: true},
            {name: 'Started (UTC)', value: (row) => row.at, show: (row) => row.at.slice(0, 16).replace('T', ' ')},
            {name: 'Outlet', value: (row) => row.outlet},
            {name: 'Inbox', value: (row) => row.inbox, number: true},
            {name: 'Another category', value: (row) => row.other, number: true},
            {name: 'Spam', value: (row) => row.spam, number: true},
            {name: 'Missing or refused', value: (row) => row.lost, number: true},
            {name: 'Known', value: (row) => row.judged, number: true},
          ]}
        />
      ) : (
        <Stack>
          <Strips>
            {providers.map((each) => (
              <Provider key={each.provider} provider={each} since={until - days * 86_400_000} until={until} />
            ))}
          </Strips>
          <Small>
            A column is a day with runs; from the ground up: inbox (full), another category (upright lines), spam
            (slanted lines), missing or refused (dark). The dashed line is where placement turned.
          </Small>
        </Stack>
      )}
    </Card>
  );
}

function Provider({provider, since, until}: {provider: Provider; since: number; until: number}) {
  const {turn} = provider;
  return (
    <>
      <span>{provider.provider}</span>
      <Strip provider={provider} since={since} until={until} />
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
