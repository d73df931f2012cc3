/** Sending limits of a relay: how far each is used, when it was hit and by which replies, what is not proven there. */
import {useQuery} from '@tanstack/react-query';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Bar} from '../../design/Bar';
import {Card, Small, Tag} from '../../design/Card';
import {DataTable, type Column} from '../../design/DataTable';
import {ago, count, time} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Stack} from '../../design/Stack';
import {font} from '../../design/tokens';
import {PER, usageQuery} from './usage';

type Use = Schemas['LimitUse'];
const Reply = styled.code`
  display: block;
  min-width: 30ch;
  font: 12px ${font.mono};
  overflow-wrap: anywhere;
  white-space: normal;
`;

/** From this share on a limit is near. */
const NEAR = 0.8;

/** What becomes of a limit, in words. */
export function foresee(use: Use): string {
  if (use.remaining === 0) return use.free_at ? `used up; room again from ${time(use.free_at)} on` : 'used up';
  if (use.reached_at) return `reached at ${time(use.reached_at)} at the pace of the last hour`;
  return use.per === 'second' ? 'the busiest second of the last ten minutes' : 'not reached at this pace';
}

/** Of a limit that a reply states. */
const STATED: Column<Schemas['LimitHit']>[] = [
  {
    name: 'Used of it now',
    value: (row) => row.use?.used ?? null,
    show: (row) => (row.use ? <Share use={row.use} /> : <Small>not known</Small>),
  },
  {name: 'Forecast', value: (row) => (row.use ? foresee(row.use) : '')},
];

export function LimitsCard({tenant, relay}: {tenant: string; relay: string}) {
  const usage = useQuery(usageQuery(tenant, relay));
  if (usage.isPending) return <Loading what="limits" />;
  if (usage.error) return <Trouble error={usage.error} again={() => void usage.refetch()} />;
  const {limits, hits, unproven, days} = usage.data;
  const rows = limits.flatMap((state) => state.uses.map((use) => ({...use, state})));
  return (
    <Stack>
      <Card title="Sending limits" note="in the last hour and 24 hours, from events and from what clearance let go">
        {rows.length === 0 && (
          <Notice title="No limits are described">
            Describe what the relay allows (Domains, a domain, Setup, Relays): this page then shows how much is left,
            and clearance can hold mail back before a limit is hit.
          </Notice>
        )}
        {rows.length > 0 && (
          <DataTable
            label="Sending limits"
            file={`limits-${relay}.csv`}
            rows={rows}
            id={(row) => `${row.state.region} ${row.per}`}
            columns={[
              {
                name: 'Region',
                value: (row) => row.state.region || 'all',
                show: (row) => (
                  <>
                    {row.state.region || 'all'} {row.state.restricted && <Tag level="risk">restricted</Tag>}
                    {row.state.streams.length > 0 && <Small> {row.state.streams.join(', ')}</Small>}
                  </>
                ),
              },
              {name: 'Limit', value: (row) => row.limit, show: (row) => `${count(row.limit)} ${PER[row.per]}`},
              {name: 'Used', value: (row) => row.used, number: true},
              {
                name: 'Share',
                value: (row) => (row.limit ? row.used / row.limit : 1),
                show: (row) => <Share use={row} />,
              },
              {name: 'Remaining', value: (row) => row.remaining, number: true},
              {name: 'Forecast', value: (row) => foresee(row)},
              {name: 'Clearance', value: (row) => (row.state.hold_back ? 'says later' : 'lets it go')},
            ]}
          />
        )}
        {limits.some((state) => state.restricted) && (
          <Small>
            Restricted: only recipients that are proven there may be mailed, up to a small number, until the operator
            lifts it.
          </Small>
        )}
      </Card>
      {hits.length > 0 && (
        <Card title="Too much mail" note={`replies that say so, last ${days} days`}>
          <DataTable
            label="Too much mail"
            file={`limit-hits-${relay}.csv`}
            rows={hits}
            id={(row) => row.provider}
            columns={[
              {name: 'Provider', value: (row) => (row.by_relay ? `${row.label} (by the relay)` : row.label)},
              {name: 'Replies', value: (row) => row.replies, number: true},
              {name: 'Newest', value: (row) => row.last_at, show: (row) => ago(row.last_at)},
              {
                name: 'States',
                value: (row) => row.stated ?? null,
                show: (row) =>
                  row.stated == null ? (
                    <Small>no number</Small>
                  ) : (
                    `${count(row.stated)} ${PER[row.stated_per ?? 'hour']}`
                  ),
              },
              ...(hits.some((each) => each.use) ? STATED : []),
              {name: 'Mail in the first such hour', value: (row) => row.mail_then, number: true},
              {name: 'Most without', value: (row) => row.most_without, number: true},
              {
                name: 'Reply',
                value: (row) => row.reply,
                show: (row) => <Reply>{row.reply || 'not kept any more'}</Reply>,
              },
            ]}
          />
        </Card>
      )}
      {unproven.length > 0 && (
        <Card title="Not verified" note={`replies that say so, last ${days} days`}>
          <DataTable
            label="Not verified"
            file={`unproven-${relay}.csv`}
            rows={unproven}
            id={(row) => row.reply}
            columns={[
              {name: 'Reply', value: (row) => row.reply, show: (row) => <Reply>{row.reply}</Reply>},
              {name: 'Replies', value: (row) => row.replies, number: true},
              {name: 'Last day', value: (row) => row.last_day},
              {
                name: 'What to do',
                value: (row) => row.remedy,
                show: (row) => (
                  <span style={{display: 'block', minWidth: '30ch', whiteSpace: 'normal'}}>{row.remedy}</span>
                ),
              },
            ]}
          />
        </Card>
      )}
    </Stack>
  );
}

function Share({use}: {use: Use}) {
  const share = use.limit ? Math.min(1, use.used / use.limit) : 1;
  return (
    <Bar share={share} of="used" width={140} sign={use.remaining === 0 ? 'full' : share >= NEAR ? 'near' : undefined} />
  );
}
