/** Links by which a report is shown to people without an account. */
import {SharedLinks} from '../../design/SharedLinks';
import {useAddReportShare, useDeleteReportShare, useReportShares} from './queries';

/** `last`: the last day of the report, empty for today. */
export function ShareCard({tenant, days, last}: {tenant: string; days: number; last: string}) {
  const shares = useReportShares(tenant);
  const add = useAddReportShare(tenant);
  const remove = useDeleteReportShare(tenant);
  return (
    <SharedLinks
      note="whoever has one sees the report as it was when the link was made, without an account"
      links={shares.data ?? []}
      of={[{name: 'Report', value: (row) => row.title}]}
      usual={30}
      made={add.data}
      error={shares.error ?? add.error ?? remove.error}
      isAdding={add.isPending}
      file={`${tenant}-report-links.csv`}
      onAdd={(valid_days, note, done) =>
        add.mutate({days, last: last || undefined, valid_days, note}, {onSuccess: done})
      }
      onRevoke={(share) => remove.mutate(share)}
    />
  );
}
