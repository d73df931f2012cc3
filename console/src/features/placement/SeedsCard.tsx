/** Seeds of a tenant: mailboxes of its own at providers, each with what came of signing in; and a form that adds one. */
import {useState, type FormEvent} from 'react';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card, Small, Tag} from '../../design/Card';
import {CheckField} from '../../design/CheckField';
import {Confirm} from '../../design/Confirm';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {ago} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Rows} from '../../design/Rows';
import {Row} from '../../design/Stack';
import {useAddSeed, useChangeSeed, useCheckSeed, useDeleteSeed, useSeeds} from './queries';

type Problem = Schemas['AccessProblem'] | null;

/** What came of signing in the last time, and what to do. */
export const Checked = ({problem, at, well}: {problem: Problem; at: string | null; well: string}) => (
  <span style={{display: 'block', minWidth: '30ch', whiteSpace: 'normal'}}>
    {problem ? (
      <>
        <Tag level="fault">{problem.kind}</Tag> {problem.what}. <Small>{problem.remedy}</Small>
      </>
    ) : at ? (
      <Small>
        {well}, {ago(at)}
      </Small>
    ) : (
      <Small>not checked yet</Small>
    )}
  </span>
);

export function SeedsCard({tenant}: {tenant: string}) {
  const seeds = useSeeds(tenant);
  const check = useCheckSeed(tenant);
  const change = useChangeSeed(tenant);
  const remove = useDeleteSeed(tenant);
  const [edited, setEdited] = useState<Schemas['Seed'] | 'new'>();
  const error = check.error ?? change.error ?? remove.error;
  return (
    <Card
      title="Seeds"
      note="mailboxes of your own at the providers; they are read only"
      actions={
        <Button changes needs="admin" onPress={() => setEdited('new')}>
          Add a seed
        </Button>
      }
    >
      {seeds.isPending && <Loading what="seeds" />}
      {seeds.error && <Trouble error={seeds.error} again={() => void seeds.refetch()} />}
      {error && <Trouble error={error} />}
      {seeds.data?.length === 0 && !edited && (
        <Notice title="No seeds yet">
          Add a mailbox at each provider that matters. Three at one say little, ten more.
        </Notice>
      )}
      {seeds.data && seeds.data.length > 0 && (
        <DataTable
          label="Seeds"
          file={`seeds-${tenant}.csv`}
          rows={seeds.data}
          id={(row) => String(row.id)}
          columns={[
            {name: 'Provider', value: (row) => row.provider},
            {name: 'Address', value: (row) => row.address},
            {name: 'Lists', value: (row) => row.lists.join(', ')},
            {
              name: 'Folders',
              value: (row) => row.folders.map((each) => `${each.folder}: ${each.label || each.means}`).join(', '),
              show: (row) => (
                <Small>{row.folders.map((each) => `${each.folder}: ${each.label || each.means}`).join(', ')}</Small>
              ),
            },
            {
              name: 'Checked',
              value: (row) => row.problem?.what ?? row.checked_at ?? '',
              show: (row) => <Checked problem={row.problem} at={row.checked_at} well="readable" />,
            },
            {
              name: 'On',
              value: (row) => (row.enabled ? 'on' : 'off'),
              show: (row) => (
                <CheckField
                  label={`${row.address} takes part`}
                  hidden
                  isSelected={row.enabled}
                  onChange={(enabled) => change.mutate({id: row.id, enabled})}
                />
              ),
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
                    onPress={() => check.mutate(row.id)}
                  >
                    Re-check
                  </Button>
                  <Button tone="link" needs="admin" onPress={() => setEdited(row)}>
                    Edit
                  </Button>
                  <Confirm
                    label="Delete"
                    tone="link"
                    title={`Delete the seed ${row.address}?`}
                    action="Delete"
                    needs="admin"
                    onConfirm={() => remove.mutate(row.id)}
                  >
                    Results of earlier runs stay.
                  </Confirm>
                </Row>
              ),
            },
          ]}
        />
      )}
      {edited && (
        <SeedForm
          key={edited === 'new' ? 0 : edited.id}
          tenant={tenant}
          saved={edited === 'new' ? undefined : edited}
          onDone={() => setEdited(undefined)}
        />
      )}
    </Card>
  );
}

const MEANINGS = [
  {value: 'inbox', label: 'Inbox'},
  {value: 'spam', label: 'Spam'},
  {value: 'other', label: 'Another category'},
];

const USUAL: Record<'folder' | 'means' | 'label', string>[] = [
  {folder: 'INBOX', means: 'inbox', label: ''},
  {folder: 'Spam', means: 'spam', label: ''},
];

/** Adds a seed, or changes a saved one; its address stays, and a password that is left empty does too. */
function SeedForm({tenant, saved, onDone}: {tenant: string; saved?: Schemas['Seed']; onDone: () => void}) {
  const add = useAddSeed(tenant);
  const change = useChangeSeed(tenant);
  const [address, setAddress] = useState('');
  const [host, setHost] = useState(saved?.host ?? '');
  const [port, setPort] = useState(String(saved?.port ?? 993));
  const [user, setUser] = useState(saved?.user ?? '');
  const [password, setPassword] = useState('');
  const [provider, setProvider] = useState(saved?.provider ?? '');
  const [lists, setLists] = useState(saved?.lists.join(' ') ?? '');
  const [note, setNote] = useState(saved?.note ?? '');
  const [folders, setFolders] = useState(saved?.folders.map((each) => ({...each})) ?? USUAL);
  const pending = add.isPending || change.isPending;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const settings = {
      host: host.trim(),
      port: Number(port) || 993,
      user: user.trim(),
      lists: lists.split(/[\s,]+/).filter(Boolean),
      folders: folders as Schemas['SeedFolder'][],
      note: note.trim(),
    };
    const named = provider.trim();
    if (saved)
      change.mutate(
        {id: saved.id, ...settings, ...(password && {password}), ...(named && {provider: named})},
        {onSuccess: onDone},
      );
    else
      add.mutate(
        {address: address.trim(), password, provider: named, security: 'tls', enabled: true, ...settings},
        {onSuccess: onDone},
      );
  };
  return (
    <div style={{marginTop: 16}}>
      <FormGrid onSubmit={submit} needs="admin">
        {!saved && (
          <Field label="Address" mono value={address} onChange={setAddress} placeholder="seed1@tidepost.example" />
        )}
        <Field label="IMAP server" mono value={host} onChange={setHost} placeholder="imap.tidepost.example" />
        <Field label="Port" hint="with TLS" value={port} onChange={setPort} />
        <Field label="User" hint="without one, the address" mono value={user} onChange={setUser} />
        <Field
          label="Password"
          hint={saved ? 'empty: it stays; another server needs it again' : 'often an application password'}
          type="password"
          value={password}
          onChange={setPassword}
        />
        <Field label="Mailbox provider" hint="without one, found by the MX" value={provider} onChange={setProvider} />
        <Field label="Seed lists" hint="names, with blanks between" value={lists} onChange={setLists} />
        <Field label="Note" value={note} onChange={setNote} />
        <div data-wide>
          <Rows
            label="Folders"
            hint="looked through in this order"
            add="Add a folder"
            fields={[
              {name: 'folder', label: 'Folder', placeholder: 'Spam'},
              {name: 'means', label: 'Holds', options: MEANINGS},
              {name: 'label', label: 'Name of the category'},
            ]}
            rows={folders}
            onChange={setFolders}
            most={20}
          />
        </div>
        <footer>
          <Button
            type="submit"
            tone="main"
            isDisabled={pending || !host.trim() || (!saved && (!address.trim() || !password))}
          >
            {pending ? 'Signing in …' : saved ? 'Save' : 'Add'}
          </Button>
          <Button onPress={onDone}>Cancel</Button>
        </footer>
      </FormGrid>
      {(add.error ?? change.error) && <Trouble error={add.error ?? change.error} />}
    </div>
  );
}
