/** Rates that rose suddenly at one provider or relay, and what is behind each. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useShift, useShifts} from './queries';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {DataTable} from '../../design/DataTable';
import {count, inZone, percent, time, words} from '../../design/format';
import {Loading, Trouble} from '../../design/Notice';
import {font, space} from '../../design/tokens';
import {useView} from '../../shell/view';

type Shift = Schemas['Shift'];
const Two = styled.div`
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(100%, 340px), 1fr));
  gap: ${space.l};
  margin-top: ${space.m};
`;
const Reply = styled.code`
  font: 12px/1.4 ${font.mono};
  white-space: normal;
  overflow-wrap: anywhere;
  display: block;
`;
const Sentence = styled.p`
  margin: ${space.m} 0 0;
  font-weight: 600;
`;

const RATE_WORDS: Record<Shift['rate'], string> = {
  permanent: 'permanent bounces',
  transient: 'transient bounces',
  delayed: 'delays',
  unwanted: 'reputation refusals',
  complaints: 'complaints',
};

/** How rarely chance alone would look like this. */
export const rarity = (years: number): string =>
  years >= 1e6
    ? 'less than once in a million years'
    : years >= 2
      ? `once in ${count(Math.round(years))} years`
      : 'about once a year';

export function ShiftsCard({tenant, days}: {tenant: string; days: number}) {
  const view = useView();
  const open = Number(view.get('shift')) || null;
  const shifts = useShifts(tenant, days);
  if (shifts.error) return <Trouble error={shifts.error} />;
  if (!shifts.data?.length) return null;
  const live = shifts.data.filter((each) => !each.ended_at).length;
  return (
    <Card
      title={live ? 'Ongoing rate shifts' : 'Past rate shifts'}
      note={live ? `${live} ongoing` : `none ongoing; last ${days} days`}
    >
      <DataTable
        label="Shifts"
        columns={[
          {
            name: 'State',
            value: (row: Shift) => (row.ended_at ? 'over' : 'ongoing'),
            show: (row) => <Tag level={row.ended_at ? 'note' : 'fault'}>{row.ended_at ? 'over' : 'ongoing'}</Tag>,
          },
          {
            name: 'Event',
            value: (row) => `${RATE_WORDS[row.rate]} ${row.what === 'relay' ? 'through' : 'at'} ${row.label}`,
            show: (row) => (
              <span style={{whiteSpace: 'normal'}}>
                {RATE_WORDS[row.rate]} {row.what === 'relay' ? 'through' : 'at'} <b>{row.label}</b>
              </span>
            ),
          },
          {
            name: 'Rate',
            value: (row) => row.seen.value,
            show: (row) => (
              <>
                {percent(row.seen.value)}{' '}
                <Small>
                  {count(row.seen.count)} of {count(row.seen.total)}
                </Small>
              </>
            ),
            number: true,
          },
          {name: 'Usual rate', value: (row) => row.usual, show: (row) => percent(row.usual), number: true},
          {name: inZone('Start'), value: (row) => row.began_at, show: (row) => time(row.began_at)},
          {
            name: 'End',
            value: (row) => row.ended_at ?? '',
            show: (row) => (row.ended_at ? time(row.ended_at) : <Soft>ongoing</Soft>),
          },
          {
            name: 'Details',
            value: (row) => row.id,
            show: (row) => (
              <Button tone="link" onPress={() => view.set('shift', open === row.id ? '' : String(row.id))}>
                {open === row.id ? 'Close' : 'Open'}
              </Button>
            ),
          },
        ]}
        rows={shifts.data}
        id={(row) => String(row.id)}
        file={`shifts-${tenant}.csv`}
      />
      {open && <Behind tenant={tenant} id={open} />}
    </Card>
  );
}

function Behind({tenant, id}: {tenant: string; id: number}) {
  const found = useShift(tenant, id);
  if (found.isPending) return <Loading what="the details" />;
  if (found.error) return <Trouble error={found.error} />;
  const {shift, parts, causes, events, examples} = found.data;
  const link = new URLSearchParams({tenant, view: 'trails'});
  for (const [name, value] of Object.entries(events)) link.set(name, Array.isArray(value) ? value.join(',') : value);
  return (
    <section aria-label="Details of the shift">
      <Sentence>{shift.summary}.</Sentence>
      <Small>Without a real change this would be seen {rarity(shift.chance_years)}.</Small>
      <Two>
        <div>
          <DataTable
            label="Breakdown"
            columns={[
              {name: 'Part', value: (row: Schemas['ShiftPart']) => row.what},
              {name: 'Name', value: (row) => row.name},
              {name: 'Messages', value: (row) => row.count, show: (row) => count(row.count), number: true},
              {name: 'Of', value: (row) => row.total, show: (row) => count(row.total), number: true},
            ]}
            rows={parts}
            id={(row) => `${row.what} ${row.name}`}
            file={`shift-${id}-parts.csv`}
          />
        </div>
        {causes.length > 0 && (
          <div>
            <DataTable
              label="Causes of the shift"
              columns={[
                {name: 'Cause', value: (row: Schemas['CauseRow']) => row.cause, show: (row) => words(row.cause)},
                {name: 'Permanent', value: (row) => row.permanent, show: (row) => count(row.permanent), number: true},
                {name: 'Transient', value: (row) => row.transient, show: (row) => count(row.transient), number: true},
              ]}
              rows={causes}
              id={(row) => row.cause}
              file={`shift-${id}-causes.csv`}
            />
          </div>
        )}
      </Two>
      {examples.length > 0 && (
        <p style={{margin: '12px 0 4px'}}>
          <b>Example</b> <a href={`/flow?${link.toString()}`}>All events</a>
        </p>
      )}
      {examples.map((each, i) => (
        <Reply key={i}>
          {each.time.slice(0, 19).replace('T', ' ')} {each.recipient} {each.diagnostic}
        </Reply>
      ))}
    </section>
  );
}
