/** Who has seen the change: servers as rows, records as columns, and when the last will have it. */
import {useEffect, useState} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useWatchAction, useWatches} from './queries';
import {Button} from '../../design/Button';
import {Card, Small, Tag} from '../../design/Card';
import {download, toCsv} from '../../design/csv';
import {plural} from '../../design/format';
import {Trouble} from '../../design/Notice';
import {colour, font} from '../../design/tokens';

type Watch = Schemas['Watch'];
type Sighting = Schemas['WatchSighting'];

const Frame = styled.div`
  overflow-x: auto;
  table {
    border-collapse: collapse;
    font-size: 12px;
    width: 100%;
  }
  th {
    text-align: left;
    font-weight: 600;
    color: ${colour('soft')};
    padding: 3px 6px;
    border-bottom: 1px solid ${colour('line')};
    vertical-align: bottom;
  }
  td {
    padding: 4px 5px;
    border-bottom: 1px solid ${colour('line')};
    white-space: nowrap;
  }
  thead th:not(:first-child) {
    font: 11px ${font.mono};
    text-align: center;
  }
  td:not(:first-child) {
    text-align: center;
    font-variant-numeric: tabular-nums;
  }
  tr:last-child td {
    border-bottom: 0;
  }
`;
const Mark = styled.span<{$tone: 'sound' | 'tarnished' | 'soft' | 'seized'}>`
  color: ${({$tone}) => colour($tone)};
  font-weight: 600;
`;

/** Seconds until a time, counted down while it is in view. */
function useNow(running: boolean): number {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    if (!running) return;
    const timer = setInterval(() => setNow(Date.now()), 1000);
    return () => clearInterval(timer);
  }, [running]);
  return now;
}

interface Cell {
  mark: string;
  tone: 'sound' | 'tarnished' | 'soft' | 'seized';
  title: string;
  until?: string;
}

export function cell(found: Sighting | undefined, now: number): Cell {
  if (!found) return {mark: '·', tone: 'soft', title: 'not queried yet'};
  if (found.holds === 'new') return {mark: '✓', tone: 'sound', title: 'has the planned record'};
  if (found.holds === 'failed') return {mark: '!', tone: 'seized', title: found.detail || 'no response'};
  const left = found.until ? Math.max(0, Math.round((Date.parse(found.until) - now) / 1000)) : null;
  const what = found.holds === 'old' ? `has ${found.values.join(' and ')}` : 'no record';
  const until = left == null ? '' : `${Math.floor(left / 60)}:${String(left % 60).padStart(2, '0')}`;
  return {
    mark: found.holds === 'old' ? '≠' : '–',
    until,
    tone: 'tarnished',
    title: `${what}${found.detail ? `: ${found.detail}` : ''}`,
  };
}

export function WatchCard({tenant, name}: {tenant: string; name: string}) {
  const watches = useWatches(tenant, name);
  const act = useWatchAction(tenant, name);
  const newest = watches.data?.[0];
  const running = newest?.state === 'running';
  return (
    <Card
      title="Propagation"
      note={newest && `watch ${newest.id}, ${plural(newest.rounds, 'round')}`}
      actions={
        <>
          {newest && (
            <Button tone="link" onPress={() => exportCsv(newest)}>
              CSV
            </Button>
          )}
          {running && (
            <Button changes onPress={() => act.mutate({id: newest.id, what: 'investigate'})} isDisabled={act.isPending}>
              Check now
            </Button>
          )}
          {running && (
            <Button changes onPress={() => act.mutate({id: newest.id, what: 'stop'})} isDisabled={act.isPending}>
              Stop
            </Button>
          )}
          {!running && (
            <Button tone="main" onPress={() => act.mutate({what: 'start'})} isDisabled={act.isPending}>
              {newest ? 'Watch again' : 'Watch propagation'}
            </Button>
          )}
        </>
      }
    >
      {watches.error && <Trouble error={watches.error} again={() => void watches.refetch()} />}
      {act.error && <Trouble error={act.error} />}
      {!newest && !watches.error && (
        <Small>
          Queries the name servers of the zone and all configured resolvers until every one returns the new records, and
          estimates the remaining time. Continues when you leave this page.
        </Small>
      )}
      {newest && <WatchTable watch={newest} />}
    </Card>
  );
}

export function WatchTable({watch}: {watch: Watch}) {
  const now = useNow(watch.state === 'running');
  const held = new Map(watch.sightings.map((each) => [`${each.server} ${each.key}`, each]));
  const next =
    watch.next_at && watch.state === 'running'
      ? Math.max(0, Math.round((Date.parse(watch.next_at) - now) / 1000))
      : null;
  return (
    <>
      <p style={{margin: '0 0 8px'}}>
        <Tag level={watch.state === 'agreed' ? 'right' : watch.state === 'gave_up' ? 'fault' : 'risk'}>
          {watch.state.replace('_', ' ')}
        </Tag>{' '}
        <b style={{fontWeight: 600}}>{watch.summary}.</b> {next != null && <Small>Next check in {next} s.</Small>}
      </p>
      <Frame>
        <table aria-label="Records by server">
          <thead>
            <tr>
              <th>Server</th>
              {watch.records.map((each, i) => (
                <th key={each.key} title={`${each.name} ${each.type} ${each.value}`}>
                  {i + 1}
                </th>
              ))}
              <th>old record until</th>
            </tr>
          </thead>
          <tbody>
            {watch.servers.map((server) => {
              const cells = watch.records.map((record) => cell(held.get(`${server.label} ${record.key}`), now));
              const last = cells
                .map((each) => each.until ?? '')
                .sort((a, b) => a.length - b.length || a.localeCompare(b))
                .at(-1);
              return (
                <tr key={server.address + server.label}>
                  <td>
                    {server.label} {server.own && <Small>zone</Small>}
                  </td>
                  {cells.map((each, i) => (
                    <td key={i} title={each.title + (each.until ? `, for at most ${each.until} more` : '')}>
                      <Mark $tone={each.tone}>{each.mark}</Mark>
                    </td>
                  ))}
                  <td>{last && <Mark $tone="tarnished">{last}</Mark>}</td>
                </tr>
              );
            })}
          </tbody>
        </table>
      </Frame>
      <ol style={{margin: '8px 0 0', paddingLeft: 22, fontSize: 12}}>
        {watch.records.map((each) => (
          <li key={each.key}>
            <code style={{font: `12px ${font.mono}`, overflowWrap: 'anywhere'}}>
              {each.name} {each.type}
            </code>{' '}
            <Small>
              {each.seen_by} of {each.asked}
            </Small>
          </li>
        ))}
      </ol>
      <Small>
        ✓ new record, ≠ other record, – no record, ! no response; right: time until the last cached answer expires
      </Small>
    </>
  );
}

function exportCsv(watch: Watch) {
  const rows = watch.sightings.map((each) => [
    each.server,
    each.key,
    each.holds,
    each.values.join(' | '),
    each.until,
    each.detail,
  ]);
  download(
    `watch-${watch.domain}-${watch.id}.csv`,
    toCsv(['server', 'record', 'holds', 'values', 'until', 'detail'], rows),
  );
}
