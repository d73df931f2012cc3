/** Everything stored about one recipient: shown, exported, erased. */
import {useState, type FormEvent} from 'react';
import type {Schemas} from '../../api/client';
import {useErase, useErasures, useRecipientData} from '../mailflow/queries';
import {Button} from '../../design/Button';
import {CheckField} from '../../design/CheckField';
import {Card} from '../../design/Card';
import {download} from '../../design/csv';
import {Confirm} from '../../design/Confirm';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {inZone, plural, time} from '../../design/format';
import {Notice, Trouble} from '../../design/Notice';

export function RecipientDataCard({tenant}: {tenant: string}) {
  const data = useRecipientData(tenant);
  const erase = useErase(tenant);
  const erasures = useErasures(tenant);
  const [address, setAddress] = useState('');
  const [reason, setReason] = useState('');
  const [again, setAgain] = useState(false);
  const look = (event: FormEvent) => {
    event.preventDefault();
    erase.reset();
    data.mutate(address.trim());
  };
  const found = data.data;
  const take = () =>
    erase.mutate(
      {address: found!.address, reason: reason.trim(), may_be_mailed_again: again},
      {
        onSuccess: () => {
          data.reset();
          setReason('');
          setAddress('');
        },
      },
    );
  return (
    <Card title="Recipient data" note="answer requests for access and erasure">
      <FormGrid needs="viewer" onSubmit={look}>
        <Field
          label="Recipient address"
          mono
          value={address}
          onChange={setAddress}
          placeholder="kim@tidepost.example"
          isRequired
        />
        <footer>
          <Button type="submit" needs="viewer" isDisabled={data.isPending}>
            Find data
          </Button>
        </footer>
      </FormGrid>
      {data.error && <Trouble error={data.error} />}
      {erase.error && <Trouble error={erase.error} />}
      {erase.data && (
        <Notice
          title={`Erased from ${plural(erase.data.events, 'event')} and ${plural(erase.data.others, 'other row')}`}
        >
          Counters did not change.
        </Notice>
      )}
      {found && (
        <>
          <p role="status">
            <b>{found.address}</b>: {plural(found.events.length, 'event')},{' '}
            {found.entries.length === 1 ? '1 suppression entry' : `${found.entries.length} suppression entries`},{' '}
            {plural(found.rejected.length, 'rejected row')}, {plural(found.caught?.length ?? 0, 'test message')} in
            trays.{' '}
            <Button
              tone="link"
              onPress={() =>
                download(
                  `data-of-${found.address.replace(/[^\w.-]+/g, '_')}.json`,
                  JSON.stringify(found, null, 2),
                  'application/json',
                )
              }
            >
              Export
            </Button>
          </p>
          <FormGrid onSubmit={(event) => event.preventDefault()}>
            <Field
              label="Reason for erasure"
              value={reason}
              onChange={setReason}
              placeholder="requested on 12 November, ticket 812"
              isRequired
            />
            <footer>
              <CheckField label="Allow mail to this address again" isSelected={again} onChange={setAgain} />
              <Confirm
                label="Erase"
                title={`Erase all data of ${found.address}?`}
                action="Erase"
                isDisabled={erase.isPending || !reason.trim()}
                onConfirm={take}
              >
                This cannot be undone. Events are kept without the address, so that rates do not change.{' '}
                {again
                  ? 'The address is removed from the suppression list.'
                  : 'A suppressed address stays suppressed, by a digest only.'}
              </Confirm>
            </footer>
          </FormGrid>
        </>
      )}
      {erasures.data && erasures.data.length > 0 && (
        <DataTable
          label="Erasures"
          columns={[
            {
              name: inZone('Erased'),
              value: (row: Schemas['Erasure']) => row.erased_at,
              show: (row) => time(row.erased_at),
            },
            {name: 'By', value: (row) => row.erased_by},
            {name: 'Events', value: (row) => row.events, number: true},
            {name: 'Other rows', value: (row) => row.others, number: true},
            {
              name: 'Reason',
              value: (row) => row.reason,
              show: (row) => <span style={{whiteSpace: 'normal'}}>{row.reason}</span>,
            },
          ]}
          rows={erasures.data}
          id={(row) => row.erased_at}
          file={`erasures-${tenant}.csv`}
        />
      )}
    </Card>
  );
}
