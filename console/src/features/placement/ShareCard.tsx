/** Links by which a run is shown to people without an account. */
import {SharedLinks} from '../../design/SharedLinks';
import {useAddShare, useDeleteShare, useShares} from './queries';

export function ShareCard({tenant, id}: {tenant: string; id: number}) {
  const shares = useShares(tenant, id);
  const add = useAddShare(tenant, id);
  const remove = useDeleteShare(tenant, id);
  return (
    <SharedLinks
      note="whoever has one sees this run only, without seed addresses and without an account"
      links={shares.data ?? []}
      usual={14}
      made={add.data}
      error={shares.error ?? add.error ?? remove.error}
      isAdding={add.isPending}
      file={`placement-${id}-links.csv`}
      onAdd={(days, note, done) => add.mutate({days, note}, {onSuccess: done})}
      onRevoke={(share) => remove.mutate(share)}
    />
  );
}
