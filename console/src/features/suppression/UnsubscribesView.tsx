/** Unsubscriptions against the two days that mailbox providers allow, and mail that went on. */
import type {Schemas} from '../../api/client';
import {useUnsubscribes} from './queries';
import {Card, Small} from '../../design/Card';
import {DataTable} from '../../design/DataTable';
import {count, inZone, time, words} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {useView} from '../../shell/view';

const WAYS: Record<string, string> = {
  post: 'one click',
  page: 'web page',
  mailto: 'email',
  event: 'feed event',
};
const took = (seconds: number) =>
  seconds < 2
    ? 'immediately'
    : seconds < 120
      ? `${Math.round(seconds)} s`
      : seconds < 7200
        ? `${Math.round(seconds / 60)} min`
        : seconds < 172_800
          ? `${Math.round(seconds / 3600)} h`
          : `${Math.round(seconds / 86_400)} days`;

export function UnsubscribesView({tenant}: {tenant: string}) {
  const view = useView();
  const days = Math.max(30, view.days);
  const found = useUnsubscribes(tenant, days);
  const data = found.data;
  return (
    <Card
      title="Unsubscribes"
      note={`last ${days} days; one-click unsubscribes must take effect within two days (RFC 8058)`}
    >
      {found.isPending && <Loading what="unsubscriptions" />}
      {found.error && <Trouble error={found.error} again={() => void found.refetch()} />}
      {data && data.asked === 0 && (
        <Notice title="No unsubscribes in this period">
          The API call unsubscribe-links returns List-Unsubscribe and List-Unsubscribe-Post headers for a recipient and
          stream.
        </Notice>
      )}
      {data && data.asked > 0 && (
        <>
          <p role="status" style={{marginTop: 0}}>
            <b>{count(data.asked)} unsubscribed</b>:{' '}
            {Object.entries(data.by_method)
              .map(([way, n]) => `${count(n)} ${WAYS[way] ?? way}`)
              .join(', ')}
            . {data.slowest_seconds != null && <>Time to take effect: at most {took(data.slowest_seconds)}. </>}
            {data.late > 0 ? <b>{count(data.late)} took more than two days. </b> : 'None took longer. '}
            {data.mailed_after > 0 ? (
              <b>
                {count(data.mailed_after)} of those below received mail on the same stream more than two days later.
              </b>
            ) : (
              'None of those below received mail later than that.'
            )}
          </p>
          <DataTable
            label="Unsubscribes"
            columns={[
              {name: 'Address', value: (row: Schemas['UnsubscribeLine']) => row.address},
              {name: 'Scope', value: (row) => row.stream || 'all mail'},
              {name: 'Method', value: (row) => words(WAYS[row.way] ?? row.way)},
              {name: inZone('Requested'), value: (row) => row.asked_at, show: (row) => time(row.asked_at)},
              {
                name: 'In effect',
                value: (row) => row.seconds,
                show: (row) => (row.way === 'event' ? 'when received' : took(row.seconds)),
              },
              {
                name: 'Mail after',
                value: (row) => row.mailed_after ?? '',
                show: (row) => (row.mailed_after ? <b>{time(row.mailed_after)}</b> : ''),
              },
            ]}
            rows={data.lines}
            id={(row) => `${row.address} ${row.stream} ${row.asked_at}`}
            file={`unsubscribes-${tenant}.csv`}
          />
          {data.asked > data.lines.length && <Small>The newest {data.lines.length} are shown.</Small>}
        </>
      )}
    </Card>
  );
}
