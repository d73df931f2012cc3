/** What changed at a domain, and any two audits beside each other. */
import {useState} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useAudits, useComparison, useHistory} from './queries';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {download, toCsv} from '../../design/csv';
import {plural, time} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {colour, font, space} from '../../design/tokens';

const Page = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: ${space.l} ${space.xl};
  align-items: start;
  @media (max-width: 1100px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;
const Entry = styled.div`
  border-top: 1px solid ${colour('line')};
  padding: 7px 0;
  font-size: 13px;
  &:first-of-type {
    border: 0;
  }
  header {
    display: flex;
    gap: 8px;
    align-items: baseline;
  }
  header > span:nth-child(2) {
    flex: 1;
    overflow-wrap: anywhere;
  }
`;
const Diff = styled.pre`
  margin: 4px 0 0;
  font: 12px/1.5 ${font.mono};
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  span {
    display: block;
    padding: 1px 6px;
    border-left: 3px solid ${colour('line')};
  }
  span[data-side='before'] {
    border-color: ${colour('seized')};
  }
  span[data-side='after'] {
    border-color: ${colour('sound')};
  }
  del,
  ins {
    text-decoration: none;
    background: color-mix(in srgb, ${colour('corroded')} 24%, transparent);
  }
  ins {
    background: color-mix(in srgb, ${colour('sound')} 28%, transparent);
  }
`;
const KINDS = {
  record: 'record',
  appeared: 'new',
  gone: 'gone',
  watch: 'spread',
  proof: 'proof',
  published: 'published',
} as const;

/** The text that two values do not share, between their common beginning and end. */
export function between(before: string, after: string): [number, number, number] {
  let start = 0;
  while (start < before.length && start < after.length && before[start] === after[start]) start++;
  let end = 0;
  while (end < before.length - start && end < after.length - start && before.at(-1 - end) === after.at(-1 - end)) end++;
  return [start, before.length - end, after.length - end];
}

function RecordDiff({change}: {change: Schemas['RecordChange']}) {
  const one = change.before.length === 1 && change.after.length === 1;
  const [start, old, fresh] = one ? between(change.before[0]!, change.after[0]!) : [0, 0, 0];
  const side = (text: string, end: number, Mark: 'del' | 'ins') =>
    one && end > start ? (
      <>
        {text.slice(0, start)}
        <Mark>{text.slice(start, end)}</Mark>
        {text.slice(end)}
      </>
    ) : (
      text
    );
  return (
    <Diff>
      {change.before.map((text, i) => (
        <span key={`b${i}`} data-side="before">
          − {side(text, old, 'del')}
        </span>
      ))}
      {change.before.length === 0 && <span data-side="before">− nothing</span>}
      {change.after.map((text, i) => (
        <span key={`a${i}`} data-side="after">
          + {side(text, fresh, 'ins')}
        </span>
      ))}
      {change.after.length === 0 && <span data-side="after">+ nothing</span>}
    </Diff>
  );
}

export function HistoryView({tenant, name}: {tenant: string; name: string}) {
  const history = useHistory(tenant, name);
  const audits = useAudits(tenant, name);
  const [before, setBefore] = useState<number>();
  const [after, setAfter] = useState<number>();
  const list = audits.data?.items ?? [];
  const last = after ?? list[0]?.id;
  const first = before ?? list.find((each) => last != null && each.id < last)?.id;
  const comparison = useComparison(tenant, name, first, last);
  const options = list.map((each) => ({
    value: String(each.id),
    label: `${time(each.finished_at)} (${plural(each.faults, 'fault')}, ${plural(each.risks, 'risk')})`,
  }));
  const entries = history.data?.items ?? [];
  const save = () =>
    download(
      `history-${name}.csv`,
      toCsv(
        ['at', 'kind', 'what', 'before', 'after'],
        entries.map((each) => [
          each.at,
          each.kind,
          each.title,
          each.change?.before.join(' | ') ?? '',
          each.change?.after.join(' | ') ?? '',
        ]),
      ),
    );
  return (
    <Page>
      <Card
        title="What changed"
        note={entries.length ? plural(entries.length, 'change') : undefined}
        actions={
          entries.length > 0 && (
            <Button tone="link" onPress={save}>
              Export CSV
            </Button>
          )
        }
      >
        {history.isPending && <Loading what="the history" />}
        {history.error && <Trouble error={history.error} again={() => void history.refetch()} />}
        {history.data && entries.length === 0 && (
          <Notice title="No changes since the first audit">
            Scheduled audits run automatically; changes appear here.
          </Notice>
        )}
        {entries.map((entry) => (
          <Entry key={entry.id}>
            <header>
              <Tag
                level={
                  entry.kind === 'gone' ? 'right' : entry.kind === 'record' ? 'note' : (entry.finding?.level ?? 'note')
                }
              >
                {KINDS[entry.kind]}
              </Tag>
              <span>{entry.title}</span>
              <Small>{time(entry.at)}</Small>
            </header>
            {entry.change && <RecordDiff change={entry.change} />}
          </Entry>
        ))}
      </Card>
      <Card title="Compare two audits" note={plural(list.length, 'audit') + ' kept'}>
        {audits.error && <Trouble error={audits.error} />}
        {list.length < 2 && <Soft>Only one audit so far, nothing to compare.</Soft>}
        {list.length >= 2 && first != null && last != null && (
          <>
            <p style={{display: 'flex', flexWrap: 'wrap', gap: 8, alignItems: 'baseline'}}>
              <Choice
                label="Earlier audit"
                value={String(first)}
                options={options}
                onChange={(id) => setBefore(Number(id))}
              />
              beside
              <Choice
                label="Later audit"
                value={String(last)}
                options={options}
                onChange={(id) => setAfter(Number(id))}
              />
            </p>
            {comparison.error && <Trouble error={comparison.error} />}
            {comparison.data && <Comparison found={comparison.data} />}
          </>
        )}
      </Card>
    </Page>
  );
}

function Comparison({found}: {found: Schemas['AuditComparison']}) {
  const nothing = !found.records.length && !found.appeared.length && !found.gone.length;
  return (
    <>
      {nothing && <Soft>No differences in records or findings.</Soft>}
      {found.records.map((change) => (
        <Entry key={change.purpose + change.name + change.rdtype}>
          <header>
            <Tag level="note">record</Tag>
            <span style={{font: `12px ${font.mono}`}}>
              {change.name} {change.rdtype}
            </span>
          </header>
          <RecordDiff change={change} />
        </Entry>
      ))}
      {found.appeared.map((each) => (
        <Entry key={each.id}>
          <header>
            <Tag level={each.level}>new</Tag>
            <span>{each.title}</span>
          </header>
        </Entry>
      ))}
      {found.gone.map((each) => (
        <Entry key={each.id}>
          <header>
            <Tag level="right">gone</Tag>
            <span>{each.title}</span>
          </header>
        </Entry>
      ))}
    </>
  );
}
