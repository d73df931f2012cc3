/** How addresses are stored: as they are, or as keyed digests only, which cannot be undone. */
import {Card, Soft} from '../../design/Card';
import {Confirm} from '../../design/Confirm';
import {Loading, Trouble} from '../../design/Notice';
import {useMatching, usePutMatching} from './queries';

export function AddressStorage({tenant}: {tenant: string}) {
  const matching = useMatching(tenant);
  const put = usePutMatching(tenant);
  const settings = matching.data?.settings;
  return (
    <Card title="Address storage" note="how the suppression list stores addresses">
      {matching.isPending && <Loading what="the settings" />}
      {(matching.error ?? put.error) && <Trouble error={(matching.error ?? put.error)!} />}
      {settings?.digests_only && (
        <Soft>
          {matching.data?.changing
            ? 'Stored data is being rewritten. Until that is done, notes, evidence, history and replies may hold addresses.'
            : 'Addresses are stored as keyed digests only. Notes, evidence, history and replies hold no addresses.'}
        </Soft>
      )}
      {settings && !settings.digests_only && (
        <div style={{display: 'grid', gap: 8}}>
          <Soft>
            Addresses are stored as they are. With digests only, the list holds no address that could be read.
          </Soft>
          <span>
            <Confirm
              label="Store digests only"
              title="Store digests instead of addresses?"
              action="Store digests only"
              isDisabled={put.isPending}
              onConfirm={() => put.mutate({...settings, digests_only: true})}
            >
              Every address on the list is replaced by a keyed digest, and addresses are removed from notes, evidence,
              history, replies and rejected rows. This cannot be undone: addresses cannot be restored from digests.
              Recipients of stored events stay readable until the events are deleted.
            </Confirm>
          </span>
        </div>
      )}
    </Card>
  );
}
