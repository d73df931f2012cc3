/** What is kept of one person: shown, exported, erased. */
import {useState, type FormEvent} from 'react';
import {Checkbox} from 'react-aria-components';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useErase, useErasures, useRecipientData} from '../mailflow/queries';
import {Button} from '../../design/Button';
import {Card, Small} from '../../design/Card';
import {download} from '../../design/csv';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {plural, time} from '../../design/format';
import {Notice, Trouble} from '../../design/Notice';
import {space} from '../../design/tokens';

const Form = styled.form`
  display: flex;
  gap: ${space.s} ${space.m};
  align-items: end;
  flex-wrap: wrap;
  margin-bottom: ${space.m};
  > :first-child {
    flex: 1 1 260px;
  }
`;

export function PersonCard({tenant}: {tenant: string}) {
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
  const take = (event: FormEvent) => {
    event.preventDefault();
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
  };
  return (
    <Card title="One person's data" note="for whoever asks what is kept of them, or wants it gone">
      <Form onSubmit={look}>
        <Field
          label="Whose, an address"
          mono
          value={address}
          onChange={setAddress}
          placeholder="kim@tidepost.example"
          isRequired
        />
        <Button type="submit" isDisabled={data.isPending}>
          See what is kept
        </Button>
      </Form>
      {data.error && <Trouble error={data.error} />}
      {erase.error && <Trouble error={erase.error} />}
      {erase.data && (
        <Notice title={`Erased from ${plural(erase.data.events, 'event')} and ${erase.data.others} other places`}>
          Counters stay as they were.
        </Notice>
      )}
      {found && (
        <>
          <p role="status">
            Of <b>{found.address}</b> there are {plural(found.events.length, 'event')}, {found.entries.length} on the
            suppression list, {plural(found.rejected.length, 'refused row')}.{' '}
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
              Export all of it
            </Button>
          </p>
          <Form onSubmit={take}>
            <Field
              label="Erase it: why"
              value={reason}
              onChange={setReason}
              placeholder="asked for on 12 November, ticket 812"
              isRequired
            />
            <Checkbox isSelected={again} onChange={setAgain}>
              {({isSelected}) => <>{isSelected ? '☑' : '☐'} may be mailed again</>}
            </Checkbox>
            <Button type="submit" isDisabled={erase.isPending || !reason.trim()}>
              Erase for good
            </Button>
          </Form>
          <Small>
            Events stay without the person, so that no rate changes. Whoever is suppressed stays so by a digest of the
            address, unless you tick the box.
          </Small>
        </>
      )}
      {erasures.data && erasures.data.length > 0 && (
        <DataTable
          label="Erasures"
          columns={[
            {
              name: 'Erased, UTC',
              value: (row: Schemas['Erasure']) => row.erased_at,
              show: (row) => time(row.erased_at),
            },
            {name: 'By', value: (row) => row.erased_by},
            {name: 'Events', value: (row) => row.events, number: true},
            {name: 'Others', value: (row) => row.others, number: true},
            {
              name: 'Why',
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
