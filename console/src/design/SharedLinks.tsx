/** Links by which something is shown to people without an account: made here, shown once, and revoked here. */
import {useState, type FormEvent} from 'react';
import {Button} from './Button';
import {Card, Small} from './Card';
import {Confirm} from './Confirm';
import {CopyButton} from './CopyButton';
import {DataTable, type Column} from './DataTable';
import {Field} from './Field';
import {FormGrid} from './Form';
import {ago, plural, time} from './format';
import {Notice, Trouble} from './Notice';

interface Link {
  id: number;
  note: string;
  created_by: string;
  expires_at: string;
  opened: number;
  opened_at?: string | null;
}

interface SharedLinksProps<L extends Link> {
  /** What whoever has a link sees. */
  note: string;
  links: L[];
  /** What is shared, where links are to several things. */
  of?: Column<L>[];
  /** Days that a link is valid unless others are chosen. */
  usual: number;
  /** The link that was just made, with its address. */
  made?: {url: string; expires_at: string};
  error: unknown;
  isAdding: boolean;
  /** Name of the exported file. */
  file: string;
  onAdd: (days: number, note: string, done: () => void) => void;
  onRevoke: (id: number) => void;
}

export function SharedLinks<L extends Link>({
  note: about,
  links,
  of = [],
  usual,
  made,
  error,
  isAdding,
  file,
  onAdd,
  onRevoke,
}: SharedLinksProps<L>) {
  const [days, setDays] = useState(String(usual));
  const [note, setNote] = useState('');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    onAdd(Number(days) || usual, note.trim(), () => setNote(''));
  };
  return (
    <Card title="Shared links" note={about}>
      {made && (
        <Notice title={`The link is valid until ${time(made.expires_at)}`}>
          <code style={{overflowWrap: 'anywhere'}}>{made.url}</code> <CopyButton value={made.url}>Copy</CopyButton> It
          is shown only now.
        </Notice>
      )}
      {error != null && <Trouble error={error} />}
      {links.length > 0 && (
        <DataTable
          label="Shared links"
          file={file}
          rows={links}
          id={(row) => String(row.id)}
          columns={[
            ...of,
            {name: 'For', value: (row) => row.note || `link ${row.id}`},
            {name: 'Made by', value: (row) => row.created_by},
            {name: 'Valid until', value: (row) => row.expires_at, show: (row) => time(row.expires_at)},
            {
              name: 'Opened',
              value: (row) => row.opened,
              show: (row) =>
                row.opened_at ? `${plural(row.opened, 'time')}, ${ago(row.opened_at)}` : <Small>never</Small>,
            },
            {
              name: '',
              value: () => '',
              tool: true,
              show: (row) => (
                <Confirm
                  label="Revoke"
                  tone="link"
                  title={`Revoke the link ${row.note || row.id}?`}
                  action="Revoke"
                  needs="operator"
                  onConfirm={() => onRevoke(row.id)}
                >
                  It opens nothing any more.
                </Confirm>
              ),
            },
          ]}
        />
      )}
      <FormGrid onSubmit={submit} needs="operator">
        <Field label="Valid for, days" hint="1 to 365" value={days} onChange={setDays} />
        <Field label="For" hint="who gets it" value={note} onChange={setNote} />
        <footer>
          <Button type="submit" changes needs="operator" isDisabled={isAdding}>
            Make a link
          </Button>
        </footer>
      </FormGrid>
    </Card>
  );
}
