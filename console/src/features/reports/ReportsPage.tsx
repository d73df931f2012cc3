/** Reports of receivers over all domains of a tenant: what they say of each, who reports, and what was set aside. */
import {useState} from 'react';
import {Link} from 'react-router';
import type {Schemas} from '../../api/client';
import {Button, Go} from '../../design/Button';
import {Card, Small, Tag} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {DataTable, type Column} from '../../design/DataTable';
import {ago, count, day, plural} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Stack} from '../../design/Stack';
import {font} from '../../design/tokens';
import {useView} from '../../shell/view';
import {useReceivers, useRejectedReports, useReplay, useReportedDomains, useStoredReports} from './queries';
import {ReportCard} from './ReportCard';
import {UploadCard} from './UploadCard';
import {aligned, share} from './verdicts';

type Who = Schemas['Who'];
type Domain = Schemas['ReportedDomain'];
type Report = Schemas['ReportSummary'];

export function ReportsPage({who}: {who: Who}) {
  const view = useView(30);
  const tenant = who.tenants.find((each) => each.slug === view.tenant) ?? who.tenants[0]!;
  const report = Number(view.get('report')) || 0;
  return (
    <Stack>
      <h1>Reports of receivers: {tenant.name}</h1>
      <DomainsCard tenant={tenant.slug} days={view.days} />
      <ReceiversCard tenant={tenant.slug} />
      <UploadCard tenant={tenant.slug} />
      <RejectedCard tenant={tenant.slug} />
      {report > 0 && (
        <ReportCard key={report} tenant={tenant.slug} id={report} onClose={() => view.set('report', '')} />
      )}
      <StoredCard tenant={tenant.slug} onOpen={(id) => view.go('report', String(id))} />
    </Stack>
  );
}

const domainColumns = (tenant: string, days: number): Column<Domain>[] => [
  {
    name: 'Domain',
    value: (row) => row.domain,
    show: (row) => (
      <Link to={`/domains/${tenant}/${row.domain}?view=reports&days=${days}`} style={{font: `13px ${font.mono}`}}>
        {row.domain}
      </Link>
    ),
  },
  {name: 'Ours', value: (row) => row.ours.messages, show: (row) => count(row.ours.messages), number: true},
  {
    name: 'Aligned',
    value: (row) => aligned(row.ours) / Math.max(1, row.ours.messages),
    show: (row) => share(aligned(row.ours), row.ours.messages),
    number: true,
  },
  {
    name: 'Unknown',
    value: (row) => row.unknown.messages,
    show: (row) =>
      row.unknown.messages ? (
        <>
          <Tag level="risk">{plural(row.unknown_sources, 'source')}</Tag> {count(row.unknown.messages)}
        </>
      ) : (
        '0'
      ),
    number: true,
  },
  {
    name: 'Forwarded',
    value: (row) => row.forwarded.messages,
    show: (row) => count(row.forwarded.messages),
    number: true,
  },
  {name: 'Not ours', value: (row) => row.not_ours.messages, show: (row) => count(row.not_ours.messages), number: true},
  {name: 'Refused', value: (row) => row.not_ours.rejected, show: (row) => count(row.not_ours.rejected), number: true},
  {
    name: 'Path to reject',
    value: (row) => row.path_stage ?? '',
    show: (row) => row.path_stage || <Small>not watched</Small>,
  },
  {name: 'Newest day', value: (row) => row.newest_day, show: (row) => day(row.newest_day)},
];

function DomainsCard({tenant, days}: {tenant: string; days: number}) {
  const domains = useReportedDomains(tenant, days);
  return (
    <Card title="Domains" note={`mail as receivers saw it, last ${days} days`}>
      {domains.isPending && <Loading what="domains" />}
      {domains.error && <Trouble error={domains.error} again={() => void domains.refetch()} />}
      {domains.data?.length === 0 && (
        <Notice title="No reports in this period">
          Receivers send a report a day about every domain that asks for them in its DMARC record. Add a feed of kind
          reports and publish its address as rua, or upload reports below.
          <Go to={`/flow?tenant=${tenant}&view=feeds`}>Add a feed for reports</Go>
        </Notice>
      )}
      {domains.data && domains.data.length > 0 && (
        <DataTable
          label="Domains with reports"
          columns={domainColumns(tenant, days)}
          rows={domains.data}
          id={(row) => row.domain}
          file={`reported-domains-${tenant}.csv`}
        />
      )}
    </Card>
  );
}

const receiverColumns: Column<Schemas['Receiver']>[] = [
  {name: 'Receiver', value: (row) => row.label},
  {
    name: 'Domain',
    value: (row) => row.receiver,
    show: (row) => <span style={{font: `12px ${font.mono}`}}>{row.receiver}</span>,
  },
  {name: 'Kinds', value: (row) => row.kinds.join(', ')},
  {name: 'Reports, 30 days', value: (row) => row.reports, number: true},
  {name: 'Messages, 30 days', value: (row) => row.messages, show: (row) => count(row.messages), number: true},
  {
    name: 'Usually every',
    value: (row) => row.usual_days,
    show: (row) => (row.usual_days ? plural(row.usual_days, 'day') : '–'),
    number: true,
  },
  {
    name: 'State',
    value: (row) => row.silent_since ?? 'reports',
    show: (row) =>
      row.silent_since ? (
        <Tag level="risk">silent since {day(row.silent_since)}</Tag>
      ) : (
        <Small>up to {day(row.newest_end)}</Small>
      ),
  },
];

function ReceiversCard({tenant}: {tenant: string}) {
  const receivers = useReceivers(tenant);
  const silent = receivers.data?.filter((each) => each.silent_since).length ?? 0;
  return (
    <Card title="Receivers" note={silent ? `${plural(silent, 'receiver')} stopped reporting` : undefined}>
      {receivers.isPending && <Loading what="receivers" />}
      {receivers.error && <Trouble error={receivers.error} again={() => void receivers.refetch()} />}
      {receivers.data && (
        <DataTable
          label="Receivers"
          columns={receiverColumns}
          rows={receivers.data}
          id={(row) => row.receiver}
          file={`receivers-${tenant}.csv`}
        />
      )}
    </Card>
  );
}

const rejectedColumns: Column<Schemas['RejectedReport']>[] = [
  {name: 'Arrived', value: (row) => row.arrived_at, show: (row) => ago(row.arrived_at)},
  {name: 'Problem', value: (row) => [row.problem, row.why].filter(Boolean).join(': ')},
  {name: 'What to do', value: (row) => row.remedy},
  {name: 'Size', value: (row) => row.size, number: true},
];

function RejectedCard({tenant}: {tenant: string}) {
  const rejected = useRejectedReports(tenant);
  const replay = useReplay(tenant);
  if (!rejected.data?.length && !rejected.error && !replay.data) return null;
  return (
    <Card
      title="Set aside"
      note="reports that could not be read"
      actions={
        <Button changes onPress={() => replay.mutate()} isDisabled={replay.isPending}>
          Retry
        </Button>
      }
    >
      {rejected.error && <Trouble error={rejected.error} again={() => void rejected.refetch()} />}
      {replay.error && <Trouble error={replay.error} />}
      {replay.data && (
        <Small>
          {replay.data.tried} tried, {replay.data.stored} stored, {replay.data.rejected} set aside again
        </Small>
      )}
      {rejected.data && rejected.data.length > 0 && (
        <DataTable
          label="Reports set aside"
          columns={rejectedColumns}
          rows={rejected.data}
          id={(row) => String(row.id)}
          file={`rejected-reports-${tenant}.csv`}
        />
      )}
    </Card>
  );
}

const AUTHENTIC: Record<Report['authentic'], string> = {
  signed: 'authentic',
  other: 'signed by another domain',
  unsigned: 'not signed',
  failed: 'signature fails',
  no_answer: 'not checked',
  not_mail: '–',
};
const reportColumns = (open: (id: number) => void): Column<Report>[] => [
  {
    name: 'Report',
    value: (row) => row.id,
    show: (row) => (
      <Button tone="link" onPress={() => open(row.id)}>
        {String(row.id)}
      </Button>
    ),
  },
  {name: 'Arrived', value: (row) => row.arrived_at, show: (row) => ago(row.arrived_at)},
  {name: 'Kind', value: (row) => row.kind},
  {name: 'From', value: (row) => row.label},
  {
    name: 'About',
    value: (row) => row.domain,
    show: (row) => <span style={{font: `12px ${font.mono}`}}>{row.domain}</span>,
  },
  {name: 'Period', value: (row) => row.begins_at, show: (row) => day(row.begins_at)},
  {name: 'Messages', value: (row) => row.messages, show: (row) => count(row.messages), number: true},
  {name: 'Passed', value: (row) => row.passed, show: (row) => count(row.passed), number: true},
  {name: 'Authenticity', value: (row) => AUTHENTIC[row.authentic]},
  {name: 'Remark', value: (row) => (row.ours ? row.oddities.join('; ') : 'not a domain of yours')},
];
const KINDS = [
  {value: '', label: 'All kinds'},
  {value: 'aggregate', label: 'Aggregate'},
  {value: 'failure', label: 'Failure'},
  {value: 'tls', label: 'TLS'},
];

function StoredCard({tenant, onOpen}: {tenant: string; onOpen: (id: number) => void}) {
  const [kind, setKind] = useState('');
  const reports = useStoredReports(tenant, kind);
  return (
    <Card
      title="Stored reports"
      note="the newest 50"
      actions={<Choice label="Kind" value={kind} options={KINDS} onChange={setKind} />}
    >
      {reports.isPending && <Loading what="reports" />}
      {reports.error && <Trouble error={reports.error} again={() => void reports.refetch()} />}
      {reports.data && (
        <DataTable
          label="Stored reports"
          columns={reportColumns(onOpen)}
          rows={reports.data}
          id={(row) => String(row.id)}
          file={`reports-${tenant}.csv`}
        />
      )}
    </Card>
  );
}
