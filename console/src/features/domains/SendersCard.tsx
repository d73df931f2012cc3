/** Every domain that mail is sent as: proven or not, aligned or not, and how far the limits of its relays are used. */
import {useQueries} from '@tanstack/react-query';
import {Link} from 'react-router';
import type {Schemas} from '../../api/client';
import {useSenders} from '../recordplan/queries';
import {PER, usageQuery} from '../readings/usage';
import {Go} from '../../design/Button';
import {Card, Small, Tag} from '../../design/Card';
import {DataTable, type Column} from '../../design/DataTable';
import {count} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {font} from '../../design/tokens';

type Sender = Schemas['Sender'];
const MOST_RELAYS = 20; // whose limits are asked for

/** The limits of a relay as far as they are used, the fullest first: "150 of 172 a day". */
function limitsOf(usage: Schemas['RelayUsage'] | undefined, stream: string): string[] {
  const uses = (usage?.limits ?? [])
    .filter((state) => state.streams.length === 0 || state.streams.includes(stream))
    .flatMap((state) => state.uses.map((use) => ({use, region: state.region})));
  return uses
    .sort((a, b) => b.use.used / b.use.limit - a.use.used / a.use.limit)
    .map(
      ({use, region}) => `${count(use.used)} of ${count(use.limit)} ${PER[use.per]}${region ? ` in ${region}` : ''}`,
    );
}

export function SendersCard({tenant}: {tenant: string}) {
  const senders = useSenders(tenant);
  const relays = [...new Set((senders.data ?? []).flatMap((each) => each.relays))].slice(0, MOST_RELAYS);
  const usages = useQueries({queries: relays.map((relay) => usageQuery(tenant, relay))});
  const limits = (row: Sender) =>
    row.relays.flatMap((relay) => {
      const [fullest] = limitsOf(usages[relays.indexOf(relay)]?.data, row.stream);
      return fullest ? [`${relay}: ${fullest}`] : [];
    });
  const columns: Column<Sender>[] = [
    {
      name: 'From domain',
      value: (row) => row.domain,
      show: (row) => (
        <Link to={`/domains/${tenant}/${row.domain}?view=streams`} style={{font: `13px ${font.mono}`}}>
          {row.domain}
        </Link>
      ),
    },
    {name: 'Stream', value: (row) => row.stream},
    {
      name: 'Relays',
      value: (row) => row.relays.join(' '),
      show: (row) =>
        row.relays.map((relay, at) => (
          <span key={relay}>
            {at > 0 && ', '}
            <Link to={`/readings/${tenant}/relay/${encodeURIComponent(relay)}`}>{relay}</Link>
          </span>
        )),
    },
    {
      name: 'Verified',
      about: {
        formula: 'A proof of the domain, of a domain above it, or of the sender address stands.',
        source: 'A TXT record that is looked up again every day, or a code that was sent and entered.',
        period: 'Now.',
      },
      value: (row) => (row.verified ? 'yes' : 'no'),
      show: (row) => (row.verified ? <Tag level="right">verified</Tag> : <Tag level="risk">not verified</Tag>),
    },
    {
      name: 'Aligned',
      about: {
        formula: 'DMARC passes over each relay: SPF or DKIM, for a domain that aligns with From as the policy asks.',
        source: 'The streams that are described for the domain, and the records of its newest audit.',
        period: 'At the newest audit.',
      },
      value: (row) => (row.aligned == null ? 'not known' : row.aligned ? 'yes' : 'no'),
      show: (row) =>
        row.aligned == null ? (
          <Small>not known</Small>
        ) : row.aligned ? (
          <Tag level="right">aligned</Tag>
        ) : (
          <Tag level="fault">not aligned</Tag>
        ),
    },
    {
      name: 'Limits used',
      about: {
        formula: 'Messages sent over a relay, divided by its limit. Of several limits, the one used most is shown.',
        source: 'Events, what clearance let go, and the limits in the description of the relay.',
        period: 'The last hour or 24 hours, as the limit says.',
      },
      value: (row) => limits(row).join('; '),
      show: (row) => limits(row).join(', '),
    },
    {
      name: 'What is missing',
      value: (row) => row.summary,
      show: (row) => <Small style={{display: 'block', minWidth: 220, whiteSpace: 'normal'}}>{row.summary}</Small>,
    },
  ];
  return (
    <Card title="Senders" note="domains and streams that mail is sent as; limits in the last hour or 24 hours">
      {senders.isPending && <Loading what="senders" />}
      {senders.error && <Trouble error={senders.error} again={() => void senders.refetch()} />}
      {senders.data?.length === 0 && (
        <Notice title="No senders yet">
          Every From domain and stream in use is listed here once events of it arrive, or once a stream is described
          (Domains, a domain, Streams).
          <Go to={`/flow?tenant=${tenant}&view=feeds`}>Add a feed</Go>
        </Notice>
      )}
      {senders.data && senders.data.length > 0 && (
        <DataTable
          label="Senders"
          columns={columns}
          rows={senders.data}
          id={(row) => `${row.domain} ${row.stream}`}
          file={`senders-${tenant}.csv`}
        />
      )}
    </Card>
  );
}
