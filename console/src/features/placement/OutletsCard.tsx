/** Outlets of a tenant: how copies go out, each with what came of its test; and a form that adds one. */
import {useState, type FormEvent} from 'react';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {Confirm} from '../../design/Confirm';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Rows} from '../../design/Rows';
import {Row} from '../../design/Stack';
import {useAddOutlet, useChangeOutlet, useCheckOutlet, useDeleteOutlet, useOutlets} from './queries';
import {Checked} from './SeedsCard';

export function OutletsCard({tenant}: {tenant: string}) {
  const outlets = useOutlets(tenant);
  const check = useCheckOutlet(tenant);
  const remove = useDeleteOutlet(tenant);
  const [edited, setEdited] = useState<Schemas['Outlet'] | 'new'>();
  const error = check.error ?? remove.error;
  return (
    <Card
      title="Outlets"
      note="how copies go out; each is tested when it is saved, without sending anything"
      actions={
        <Button changes needs="admin" onPress={() => setEdited('new')}>
          Add an outlet
        </Button>
      }
    >
      {outlets.isPending && <Loading what="outlets" />}
      {outlets.error && <Trouble error={outlets.error} again={() => void outlets.refetch()} />}
      {error && <Trouble error={error} />}
      {outlets.data?.length === 0 && !edited && (
        <Notice title="No outlets yet">Add one for each relay and stream whose placement you want to know.</Notice>
      )}
      {outlets.data && outlets.data.length > 0 && (
        <DataTable
          label="Outlets"
          file={`outlets-${tenant}.csv`}
          rows={outlets.data}
          id={(row) => row.name}
          columns={[
            {name: 'Outlet', value: (row) => row.name},
            {name: 'Relay', value: (row) => row.relay},
            {name: 'Stream', value: (row) => row.stream},
            {name: 'Server', value: (row) => `${row.host}:${row.port} ${row.security}`},
            {name: 'From', value: (row) => row.from_address || 'of the message'},
            {name: 'Envelope sender', value: (row) => row.mail_from},
            {
              name: 'Tested',
              value: (row) => row.problem?.what ?? row.checked_at ?? '',
              show: (row) => <Checked problem={row.problem} at={row.checked_at} well="works" />,
            },
            {
              name: '',
              value: () => '',
              tool: true,
              show: (row) => (
                <Row style={{flexWrap: 'nowrap'}}>
                  <Button
                    tone="link"
                    needs="operator"
                    isDisabled={check.isPending}
                    onPress={() => check.mutate(row.name)}
                  >
                    Re-check
                  </Button>
                  <Button tone="link" needs="admin" onPress={() => setEdited(row)}>
                    Edit
                  </Button>
                  <Confirm
                    label="Delete"
                    tone="link"
                    title={`Delete the outlet ${row.name}?`}
                    action="Delete"
                    needs="admin"
                    onConfirm={() => remove.mutate(row.name)}
                  >
                    Its runs stay.
                  </Confirm>
                </Row>
              ),
            },
          ]}
        />
      )}
      {edited && (
        <OutletForm
          key={edited === 'new' ? '' : edited.name}
          tenant={tenant}
          saved={edited === 'new' ? undefined : edited}
          onDone={() => setEdited(undefined)}
        />
      )}
    </Card>
  );
}

const SECURITY = [
  {value: 'starttls', label: 'STARTTLS'},
  {value: 'tls', label: 'TLS from the start'},
];

/** Adds an outlet, or changes a saved one; its name stays, and a password that is left empty does too. */
function OutletForm({tenant, saved, onDone}: {tenant: string; saved?: Schemas['Outlet']; onDone: () => void}) {
  const add = useAddOutlet(tenant);
  const change = useChangeOutlet(tenant);
  const [name, setName] = useState('');
  const [host, setHost] = useState(saved?.host ?? '');
  const [port, setPort] = useState(String(saved?.port ?? 587));
  const [security, setSecurity] = useState(saved?.security ?? 'starttls');
  const [user, setUser] = useState(saved?.user ?? '');
  const [password, setPassword] = useState('');
  const [mailFrom, setMailFrom] = useState(saved?.mail_from ?? '');
  const [fromName, setFromName] = useState(saved?.from_name ?? '');
  const [fromAddress, setFromAddress] = useState(saved?.from_address ?? '');
  const [relay, setRelay] = useState(saved?.relay ?? '');
  const [stream, setStream] = useState(saved?.stream ?? '');
  const [extra, setExtra] = useState<{name: string; value: string}[]>(saved?.extra.map((each) => ({...each})) ?? []);
  const pending = add.isPending || change.isPending;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const settings = {
      host: host.trim(),
      port: Number(port) || 587,
      security: security as Schemas['NewOutlet']['security'],
      user: user.trim(),
      mail_from: mailFrom.trim(),
      from_name: fromName.trim(),
      from_address: fromAddress.trim(),
      relay: relay.trim(),
      stream: stream.trim(),
      extra,
    };
    if (saved) change.mutate({name: saved.name, ...settings, ...(password && {password})}, {onSuccess: onDone});
    else add.mutate({name: name.trim(), password, ...settings}, {onSuccess: onDone});
  };
  return (
    <div style={{marginTop: 16}}>
      <FormGrid onSubmit={submit} needs="admin">
        {!saved && <Field label="Name" hint="a-z, 0-9 and hyphens" mono value={name} onChange={setName} />}
        <Field label="SMTP server" mono value={host} onChange={setHost} placeholder="smtp.driftline.example" />
        <Field label="Port" value={port} onChange={setPort} />
        <Choice
          field
          label="Security"
          value={security}
          options={saved?.security === 'none' ? [...SECURITY, {value: 'none', label: 'No TLS'}] : SECURITY}
          onChange={setSecurity}
        />
        <Field label="User" mono value={user} onChange={setUser} />
        <Field
          label="Password"
          hint={saved ? 'empty: it stays; another server needs it again' : undefined}
          type="password"
          value={password}
          onChange={setPassword}
        />
        <Field label="Envelope sender" mono value={mailFrom} onChange={setMailFrom} placeholder="bounce@d.example" />
        <Field label="From name" value={fromName} onChange={setFromName} />
        <Field
          label="From address"
          hint="without one, that of the message"
          mono
          value={fromAddress}
          onChange={setFromAddress}
        />
        <Field label="Relay" hint="that it stands for" value={relay} onChange={setRelay} />
        <Field label="Stream" hint="that it stands for" value={stream} onChange={setStream} />
        <div data-wide>
          <Rows
            label="Header fields that copies get"
            add="Add a field"
            fields={[
              {name: 'name', label: 'Name', placeholder: 'X-Campaign'},
              {name: 'value', label: 'Value'},
            ]}
            rows={extra}
            onChange={setExtra}
            most={20}
          />
        </div>
        <footer>
          <Button
            type="submit"
            tone="main"
            isDisabled={pending || (!saved && !name.trim()) || !host.trim() || !mailFrom.trim()}
          >
            {pending ? 'Testing …' : saved ? 'Save' : 'Add'}
          </Button>
          <Button onPress={onDone}>Cancel</Button>
        </footer>
      </FormGrid>
      {(add.error ?? change.error) && <Trouble error={add.error ?? change.error} />}
    </div>
  );
}
