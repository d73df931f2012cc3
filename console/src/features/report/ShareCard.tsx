/** Links by which a report is shown to people without an account: made here, shown once, and revoked here. */
import {useState, type FormEvent} from 'react';
import {Button} from '../../design/Button';
import {Card, Small} from '../../design/Card';
import {Confirm} from '../../design/Confirm';
import {CopyButton} from '../../design/CopyButton';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {ago, plural, time} from '../../design/format';
import {Notice, Trouble} from '../../design/Notice';
import {useAddReportShare, useDeleteReportShare, useReportShares} from './queries';

/** `last`: the last day of the report, empty for today. */
export function ShareCard({tenant, days, last}: {tenant: string; days: number; last: string}) {
  const shares = useReportShares(tenant);
  const add = useAddReportShare(tenant);
  const remove = useDeleteReportShare(tenant);
  const [valid, setValid] = useState('30');
  const [note, setNote] = useState('');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    add.mutate(
      {days, last: last || undefined, valid_days: Number(valid) || 30, note: note.trim()},
      {onSuccess: () => setNote('')},
    );
  };
  return (
    <Card
      title="Shared links"
      note="whoever has one sees the report as it was when the link was made, without an account"
    >
      {add.data && (
        <Notice title={`The link is valid until ${time(add.data.expires_at)}`}>
          <code style={{overflowWrap: 'anywhere'}}>{add.data.url}</code>{' '}
          <CopyButton value={add.data.url}>Copy</CopyButton> It is shown only now.
        </Notice>
      )}
      {(shares.error ?? add.error ?? remove.error) && <Trouble error={shares.error ?? add.error ?? remove.error} />}
      {shares.data && shares.data.length > 0 && (
        <DataTable
          label="Shared links"
          file={`${tenant}-report-links.csv`}
          rows={shares.data}
          id={(row) => String(row.id)}
          columns={[
            {name: 'Report', value: (row) => row.title},
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
                  onConfirm={() => remove.mutate(row.id)}
                >
                  It opens nothing any more.
                </Confirm>
              ),
            },
          ]}
        />
      )}
      <FormGrid onSubmit={submit} needs="operator">
        <Field label="Valid for, days" hint="1 to 365" value={valid} onChange={setValid} />
        <Field label="For" hint="who gets it; a note for yourself" value={note} onChange={setNote} />
        <footer>
          <Button type="submit" changes needs="operator" isDisabled={add.isPending}>
            Make a link
          </Button>
        </footer>
      </FormGrid>
    </Card>
  );
}
