/** What receivers report about a domain: the way to p=reject, its mail by day, who sends as it, and the rehearsal. */
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Go} from '../../design/Button';
import {Card} from '../../design/Card';
import {Stack} from '../../design/Stack';
import {useView} from '../../shell/view';
import {DaysCard} from './DaysCard';
import {ReceiversCard} from './ReceiversCard';
import {PathCard} from './PathCard';
import {RehearsalCard} from './RehearsalCard';
import {SourceCard} from './SourceCard';
import {SourcesCard} from './SourcesCard';
import {StreamsCard} from './StreamsCard';
import {TlsCard} from './TlsCard';
import {UploadCard} from './UploadCard';
import {useOverview} from './queries';

export function SourcesView({tenant, name, days}: {tenant: string; name: string; days: number}) {
  const view = useView(90);
  const overview = useOverview(tenant, name, days);
  if (overview.isPending) return <Loading what="reports" />;
  if (overview.error) return <Trouble error={overview.error} again={() => void overview.refetch()} />;
  const open = (source: string) => view.go('source', source);
  const source = view.get('source');
  if (!overview.data.reports && !overview.data.sources.length)
    return (
      <Stack>
        <Card title="Reports of receivers">
          <Notice title="No reports in this period">
            Receivers send a report a day about every domain that asks for them in its DMARC record. Add a feed of kind
            reports, publish its address as rua, or upload reports that you have. Then this page says who sends as{' '}
            {name}, and what a stricter policy would do.
            <Go to={`/flow?tenant=${tenant}&view=feeds`}>Add a feed for reports</Go>
          </Notice>
        </Card>
        <UploadCard tenant={tenant} />
      </Stack>
    );
  return (
    <Stack>
      {source && (
        <SourceCard
          key={source}
          tenant={tenant}
          domain={name}
          name={source}
          days={Math.max(days, 90)}
          onClose={() => open('')}
          onClaimed={open}
        />
      )}
      <SourcesCard tenant={tenant} overview={overview.data} onOpen={open} />
      <StreamsCard tenant={tenant} domain={name} days={days} />
      <DaysCard tenant={tenant} domain={name} days={overview.data.days} />
      <ReceiversCard domain={name} receivers={overview.data.by_receiver} />
      <PathCard tenant={tenant} domain={name} />
      <RehearsalCard tenant={tenant} domain={name} days={days} />
      <TlsCard tenant={tenant} domain={name} days={days} />
    </Stack>
  );
}
