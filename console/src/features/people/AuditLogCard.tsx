/** The audit log: who did what to what, with what was there before and after. */
import {useState} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useAuditLog} from './queries';
import {Button} from '../../design/Button';
import {Card, Small, Soft} from '../../design/Card';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {inZone, stamp} from '../../design/format';
import {Loading, Trouble} from '../../design/Notice';
import {font, space} from '../../design/tokens';

type Entry = Schemas['AuditEntry'];
const States = styled.div`
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(280px, 100%), 1fr));
  gap: ${space.m};
  margin-top: ${space.m};
  pre {
    font: 12px/1.5 ${font.mono};
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    margin: 0;
  }
`;
const words = (action: string) => {
  const text = action.replaceAll('_', ' ');
  return text[0]!.toUpperCase() + text.slice(1);
};
const json = (state: unknown) => (state == null ? '' : JSON.stringify(state, null, 1));

export function AuditLogCard({tenant}: {tenant?: string}) {
  const [account, setAccount] = useState('');
  const [text, setText] = useState('');
  const [open, setOpen] = useState<Entry | null>(null);
  const log = useAuditLog(tenant, {account: account.trim(), action: '', text: text.trim()});
  const rows = log.data?.pages.flatMap((page) => page.items) ?? [];
  return (
    <Card
      title="Audit log"
      note={`who did what${tenant ? '' : ' in the whole installation'}, newest first; entries cannot be changed`}
    >
      <FormGrid onSubmit={(event) => event.preventDefault()}>
        <Field label="Account" value={account} onChange={setAccount} placeholder="isla@skerry.example" />
        <Field
          label="Text"
          hint="Searches actions and values; an address is found by its digest"
          value={text}
          onChange={setText}
        />
      </FormGrid>
      {log.isPending && <Loading what="the audit log" />}
      {log.error && <Trouble error={log.error} />}
      {log.data && rows.length === 0 && <Soft>No entries.</Soft>}
      {rows.length > 0 && (
        <DataTable
          label="Audit log"
          columns={[
            {name: inZone('Time'), value: (row: Entry) => row.at, show: (row) => stamp(row.at)},
            ...(tenant ? [] : [{name: 'Tenant', value: (row: Entry) => row.tenant ?? ''}]),
            {
              name: 'By',
              value: (row) => row.account,
              show: (row) => (
                <>
                  {row.account}
                  {row.token && <Small> token {row.token}</Small>}
                </>
              ),
            },
            {name: 'From', value: (row) => row.address},
            {name: 'Action', value: (row) => row.action, show: (row) => words(row.action)},
            {name: 'What', value: (row) => row.subject},
            {
              name: '',
              value: () => '',
              tool: true,
              show: (row) =>
                (row.before != null || row.after != null) && (
                  <Button tone="link" onPress={() => setOpen(open?.id === row.id ? null : row)}>
                    {open?.id === row.id ? 'Close' : 'Open'}
                  </Button>
                ),
            },
          ]}
          rows={rows}
          id={(row) => String(row.id)}
          file={`audit-log-${tenant ?? 'installation'}.csv`}
        />
      )}
      {open && (
        <States role="region" aria-label={`Entry ${open.id}`}>
          <div>
            <b>Before</b>
            <pre>{json(open.before) || '–'}</pre>
          </div>
          <div>
            <b>After</b>
            <pre>{json(open.after) || '–'}</pre>
          </div>
        </States>
      )}
      {log.hasNextPage && (
        <p>
          <Button onPress={() => void log.fetchNextPage()} isDisabled={log.isFetchingNextPage}>
            Load more
          </Button>
        </p>
      )}
    </Card>
  );
}
