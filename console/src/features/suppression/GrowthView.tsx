/** How the list grew: what stands, day by day, by reason, provider or stream; and what withholding spared. */
import {useState} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useEarlierGrowth, useGrowth} from './queries';
import {Go} from '../../design/Button';
import {Card} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {ChartView} from '../../design/ChartView';
import {DataTable} from '../../design/DataTable';
import {count, day, daysBefore, firstDay, percent, words} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Spark} from '../../design/Spark';
import {TimeChart, upTo} from '../../design/TimeChart';
import {space} from '../../design/tokens';
import {useZoom} from '../../design/zoom';
import {HappenedKey, happenedOn} from '../../design/happened';
import {BesideField, useBeside} from '../../shell/before';
import {useAnnotations} from '../readings/queries';
import {useView} from '../../shell/view';

type Part = Schemas['GrowthPart'];
const Stack = styled.div`
  display: grid;
  gap: ${space.m};
  grid-template-columns: minmax(0, 1fr);
`;
const BY = [
  {value: 'reasons', label: 'By reason'},
  {value: 'providers', label: 'By provider'},
  {value: 'streams', label: 'By stream'},
];

export function GrowthView({tenant}: {tenant: string}) {
  const {days} = useView(90, 365);
  const [by, setBy] = useState('reasons');
  const growth = useGrowth(tenant, firstDay(days));
  const found = growth.data;
  const beside = useBeside();
  const first = firstDay(days);
  const earlier = useEarlierGrowth(tenant, daysBefore(first, days), daysBefore(first, 1), beside);
  const before = new Map((earlier.data?.days ?? []).map((each) => [each.day, each.active]));
  const beforeOf = (each: Schemas['GrowthDay']) => before.get(daysBefore(each.day, days)) ?? null;
  const zoom = useZoom((found?.days ?? []).map((each) => each.day));
  const shown = (found?.days ?? []).filter((each) => zoom.shows(each.day));
  const annotations = useAnnotations(tenant, firstDay(days)).data ?? [];
  const parts: Part[] = found ? (found[by as 'reasons'] ?? []) : [];
  return (
    <Stack>
      <Card title="Active entries" note="entries in force at the end of each day" actions={<BesideField />}>
        {growth.isPending && <Loading what="list growth" />}
        {growth.error && <Trouble error={growth.error} again={() => void growth.refetch()} />}
        {found && found.days.every((each) => each.active === 0 && each.withheld === 0) && (
          <Notice title="No active entries in this period">
            Entries are added by bounces, complaints and unsubscribes, or from a list that you have.
            <Go to={`/suppression?tenant=${tenant}&view=import-export`}>Import a list</Go>
          </Notice>
        )}
        {found && found.days.some((each) => each.active > 0) && (
          <ChartView
            label="Active entries by day"
            columns={[
              {name: 'Day', value: (row: Schemas['GrowthDay']) => row.day},
              {name: 'Added', value: (row) => row.added, number: true},
              {name: 'Removed', value: (row) => row.removed, number: true},
              {name: 'Active', value: (row) => row.active, show: (row) => count(row.active), number: true},
              {name: 'Withheld', value: (row) => row.withheld, number: true},
              ...(beside ? [{name: 'Active in the period before', value: beforeOf, number: true}] : []),
              {name: 'Annotations', value: (row) => happenedOn(annotations, row.day)},
            ]}
            rows={shown}
            zoom={zoom}
            id={(row) => row.day}
            file={`suppression-days-${tenant}`}
          >
            <TimeChart
              label={`From ${count(shown[0]?.active ?? 0)} to ${count(shown.at(-1)?.active ?? 0)} entries`}
              days={shown.map((each) => each.day)}
              height={220}
              left={52}
              {...upTo(Math.max(1, ...shown.flatMap((each) => [each.active, (beside && beforeOf(each)) || 0])))}
              annotations={annotations}
              curves={[
                ...(beside ? [{name: 'before', values: shown.map(beforeOf), tone: 'soft' as const, dashed: true}] : []),
                {name: 'active', values: shown.map((each) => each.active), tone: 'rust', filled: true},
              ]}
              texts={(at) => [
                ...ofDay(shown[at]!),
                ...(beside && beforeOf(shown[at]!) != null ? [`before: ${count(beforeOf(shown[at]!)!)} active`] : []),
              ]}
            />
            <HappenedKey annotations={annotations} first={zoom.first} last={zoom.last} />
          </ChartView>
        )}
      </Card>
      {found && (
        <Card
          title="Growth"
          note={`${day(found.first)} to ${day(found.last)}`}
          actions={<Choice label="Group by" value={by} options={BY} onChange={setBy} />}
        >
          <DataTable
            label="Growth by part"
            columns={[
              {
                name: {reasons: 'Reason', providers: 'Provider', streams: 'Stream'}[by] ?? 'Reason',
                value: (row: Part) => words(row.label),
              },
              {
                name: 'Active',
                value: (row) => row.active,
                show: (row) => count(row.active),
                number: true,
                about: {
                  formula: 'Entries in force; one address may have an entry for the tenant, a domain and a stream.',
                  source: 'Changes of the suppression list, each of which has a number and is kept.',
                  period: 'At the end of the last day.',
                  events: {to: `/suppression?tenant=${tenant}`, label: 'Open the list'},
                },
              },
              {
                name: 'Added',
                value: (row) => row.added,
                show: (row) => count(row.added),
                number: true,
                about: {
                  formula:
                    'Entries that came into force, by bounces, complaints and unsubscribes, by import or by hand.',
                  source: 'Changes of the suppression list.',
                  period: 'The days of the chart.',
                },
              },
              {
                name: 'Removed',
                value: (row) => row.removed,
                show: (row) => count(row.removed),
                number: true,
                about: {
                  formula: 'Entries that were lifted or reached their end.',
                  source: 'Changes of the suppression list.',
                  period: 'The days of the chart.',
                },
              },
              {
                name: 'Withheld',
                value: (row) => row.withheld,
                show: (row) => count(row.withheld),
                number: true,
                about: {
                  formula: 'Messages that were not sent because clearance or a gate said that the recipient is held.',
                  source: 'Requests for clearance that name what is sent, and gates of mail servers.',
                  period: 'The days of the chart.',
                  events: {to: `/flow?tenant=${tenant}&view=trails&kind=withheld`, label: 'Withheld messages'},
                },
              },
              {
                name: 'By day',
                value: (row) => row.days.join(' '),
                show: (row) => <Spark values={row.days} condition={null} width={120} />,
              },
            ]}
            rows={parts}
            id={(row) => row.name || '-'}
            file={`suppression-${by}-${tenant}.csv`}
          />
        </Card>
      )}
      {found && <Saved saved={found.saved} />}
    </Stack>
  );
}

const ofDay = (each: Schemas['GrowthDay']): string[] => [
  day(each.day),
  `${count(each.active)} active, ${count(each.added)} added, ${count(each.removed)} removed`,
  ...(each.withheld ? [`${count(each.withheld)} messages withheld`] : []),
];

function Saved({saved}: {saved: Schemas['SavedRates']}) {
  return (
    <Card title="Bounces avoided" note="messages not sent because the recipient is held">
      {saved.withheld === 0 ? (
        <Notice title="No messages withheld in this period">
          Messages withheld by clearance requests that name the sending domain, or by a gate, are counted here.
        </Notice>
      ) : (
        <p style={{margin: 0}}>
          <b>{count(saved.withheld)} messages</b> withheld, {count(saved.withheld_bad)} of them to invalid addresses. Of{' '}
          {count(saved.sent)} sent, {count(saved.bounced)} bounced
          {saved.bounce_rate != null && saved.bounce_rate_without != null && (
            <>
              : {percent(saved.bounce_rate)}. Without withholding it would be{' '}
              <b>{percent(saved.bounce_rate_without)}</b>.
            </>
          )}
        </p>
      )}
    </Card>
  );
}
