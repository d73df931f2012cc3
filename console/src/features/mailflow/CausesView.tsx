/** Causes of bounces and delays: causes day by day at each provider, and replies grouped by their fixed part. */
import {useState} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useCauses, useReplyPatterns, type Which} from './queries';
import {Button} from '../../design/Button';
import {Card, Small, Tag} from '../../design/Card';
import {DataTable} from '../../design/DataTable';
import {ago, count, firstDay, words} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Spark} from '../../design/Spark';
import {font, space} from '../../design/tokens';
import {ruleFrom, RulesCard} from './RulesCard';
import {Needs} from '../../design/may';

type Series = Schemas['CauseSeries'];
type Wording = Schemas['ReplyPattern'];

const Stack = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr);
  gap: ${space.l};
`;
const Reply = styled.code`
  font: 12px/1.4 ${font.mono};
  white-space: normal;
  overflow-wrap: anywhere;
  display: block;
  min-width: 28ch;
`;

/** Points for a trend whose scale is its own highest day. */
const scaled = (days: number[]): number[] => {
  const most = Math.max(1, ...days);
  return days.map((n) => (100 * n) / most);
};

export function CausesView({tenant, days, which}: {tenant: string; days: number; which: Which}) {
  const causes = useCauses(tenant, firstDay(days), which);
  const reply_patterns = useReplyPatterns(tenant, firstDay(days));
  const [draft, setDraft] = useState<Schemas['OwnRule'] | null>(null);
  return (
    <Stack>
      {causes.isPending && <Loading what="causes" />}
      {causes.error && <Trouble error={causes.error} again={() => void causes.refetch()} />}
      {causes.data && (
        <Card
          title="Causes of bounces and delays"
          note={`messages, last ${days} days; “before” is the preceding period of the same length`}
        >
          {causes.data.rows.length === 0 ? (
            <Notice title="No bounces or delays">All mail was accepted at the first attempt.</Notice>
          ) : (
            <DataTable
              label="Causes"
              columns={[
                {name: 'Provider', value: (row: Series) => row.label},
                {
                  name: 'Cause',
                  value: (row) => words(row.cause),
                  show: (row) => (
                    <>
                      {words(row.cause)} {row.is_new && <Tag level="risk">new</Tag>}
                    </>
                  ),
                },
                {name: 'Bounced', value: (row) => row.bounced, show: (row) => count(row.bounced), number: true},
                {name: 'Delayed', value: (row) => row.delayed, show: (row) => count(row.delayed), number: true},
                {
                  name: 'Before',
                  value: (row) => row.before,
                  show: (row) => <Small>{count(row.before)}</Small>,
                  number: true,
                },
                {
                  name: 'By day',
                  value: (row) => row.days.join(' '),
                  show: (row) => <Spark values={scaled(row.days)} width={70} />,
                },
                {name: 'Example', value: (row) => row.example, show: (row) => <Reply>{row.example}</Reply>},
              ]}
              rows={causes.data.rows}
              id={(row) => `${row.provider} ${row.cause}`}
              file={`causes-${tenant}.csv`}
            />
          )}
        </Card>
      )}
      <Needs least="admin">
        <RulesCard tenant={tenant} draft={draft} onDraft={setDraft} />
      </Needs>
      {reply_patterns.data && reply_patterns.data.length > 0 && (
        <Card
          title="Reply patterns"
          note="replies grouped without numbers, ids, addresses and hosts; one rule covers a whole group"
        >
          <DataTable
            label="Replies"
            columns={[
              {name: 'Count', value: (row: Wording) => row.count, show: (row) => count(row.count), number: true},
              {
                name: 'Cause',
                value: (row) => row.cause,
                show: (row) =>
                  row.cause === 'unclassified' ? <Tag level="risk">no rule matches</Tag> : words(row.cause),
              },
              {
                name: 'At',
                value: (row) => row.providers.join(', '),
                show: (row) => <span style={{whiteSpace: 'normal'}}>{row.providers.join(', ')}</span>,
              },
              {name: 'Pattern', value: (row) => row.pattern, show: (row) => <Reply>{row.pattern}</Reply>},
              {
                name: 'Rule',
                value: () => '',
                tool: true,
                show: (row) => (
                  <Button
                    tone="link"
                    onPress={() => {
                      setDraft(ruleFrom(row.pattern, row.example, row.cause as Schemas['OwnRule']['cause']));
                      document.querySelector('[aria-label="Your cause rules"]')?.scrollIntoView?.({behavior: 'smooth'});
                    }}
                  >
                    Create rule
                  </Button>
                ),
              },
              {
                name: 'First seen',
                value: (row) => row.first_seen_at,
                show: (row) => <Small>{ago(row.first_seen_at)}</Small>,
              },
            ]}
            rows={reply_patterns.data}
            id={(row) => `${row.id} ${row.cause}`}
            file={`replies-${tenant}.csv`}
          />
        </Card>
      )}
    </Stack>
  );
}
