/** Trays of a tenant: where test messages are caught; and a form that adds one. */
import {useState, type FormEvent} from 'react';
import {Link} from 'react-router';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card, Small} from '../../design/Card';
import {CopyButton} from '../../design/CopyButton';
import {DataTable, type Column} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {count, plural} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {font} from '../../design/tokens';
import {useAddTray, useTrays} from './queries';

export const Mono = styled.code`
  font: 12px ${font.mono};
  overflow-wrap: anywhere;
  white-space: normal;
`;
/** An address or a name, on one line. */
export const Whole = styled(Mono)`
  white-space: nowrap;
`;
export const pathOf = (tenant: string, name: string, rest = '') =>
  `/bench/${tenant}/${encodeURIComponent(name)}${rest}`;

export function TraysCard({tenant}: {tenant: string}) {
  const trays = useTrays(tenant);
  const [adding, setAdding] = useState(false);
  const columns: Column<Schemas['Tray']>[] = [
    {
      name: 'Tray',
      value: (row) => row.name,
      show: (row) => (
        <Link to={pathOf(tenant, row.name)} style={{font: `13px ${font.mono}`}}>
          {row.name}
        </Link>
      ),
    },
    {name: 'Title', value: (row) => row.title},
    {name: 'Messages', value: (row) => row.messages, show: (row) => count(row.messages), number: true},
    {
      name: 'Size, MB',
      value: (row) => Math.round(row.octets / 104857.6) / 10,
      number: true,
    },
    {name: 'Keeps', value: (row) => `${row.keep_days} days, ${count(row.keep_messages)} messages`},
    {name: 'Receiver', value: (row) => (row.receiver.length ? plural(row.receiver.length, 'rule') : '')},
    {name: 'Address', value: (row) => row.address, show: (row) => <Mono>{row.address}</Mono>},
  ];
  return (
    <Card
      title="Trays"
      note="what is sent to a tray is caught there and goes nowhere else, whoever its recipients are"
      actions={
        <Button changes needs="admin" onPress={() => setAdding(true)}>
          Add a tray
        </Button>
      }
    >
      {trays.isPending && <Loading what="trays" />}
      {trays.error && <Trouble error={trays.error} again={() => void trays.refetch()} />}
      {trays.data?.length === 0 && !adding && (
        <Notice title="No trays yet">
          Add one for each project or stage. It gives you SMTP settings for the application, and an address for mail
          from outside.
        </Notice>
      )}
      {trays.data && trays.data.length > 0 && (
        <DataTable
          label="Trays"
          columns={columns}
          rows={trays.data}
          id={(row) => row.name}
          file={`trays-${tenant}.csv`}
        />
      )}
      {adding && <AddTray tenant={tenant} onDone={() => setAdding(false)} />}
    </Card>
  );
}

function AddTray({tenant, onDone}: {tenant: string; onDone: () => void}) {
  const add = useAddTray(tenant);
  const [name, setName] = useState('');
  const [title, setTitle] = useState('');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    add.mutate({name: name.trim(), title: title.trim()} as Schemas['NewTray']);
  };
  if (add.data) return <Password made={add.data} tenant={tenant} onDone={onDone} />;
  return (
    <div style={{marginTop: 16}}>
      <FormGrid onSubmit={submit}>
        <Field label="Name" hint="a-z, 0-9 and hyphens, such as booking-staging" mono value={name} onChange={setName} />
        <Field label="Title" value={title} onChange={setTitle} />
        <footer>
          <Button type="submit" tone="main" isDisabled={add.isPending || !name.trim()}>
            {add.isPending ? 'Adding …' : 'Add'}
          </Button>
          <Button onPress={onDone}>Cancel</Button>
        </footer>
      </FormGrid>
      {add.error && <Trouble error={add.error} />}
    </div>
  );
}

/** The SMTP password of a tray, which is shown once. */
export const Password = ({made, tenant, onDone}: {made: Schemas['MadeTray']; tenant: string; onDone: () => void}) => (
  <Notice title="SMTP password: copy it now, it is not shown again">
    <p>
      <Mono>{made.password}</Mono> <CopyButton value={made.password}>Copy</CopyButton>
    </p>
    <p>
      User <Mono>{made.smtp_user}</Mono>.{' '}
      <Link to={pathOf(tenant, made.name, '?view=connection')}>Settings for your mail library</Link>
    </p>
    <p>
      <Button onPress={onDone}>Close</Button>
    </p>
    <Small>Tests read it from BENCH_PASSWORD.</Small>
  </Notice>
);
