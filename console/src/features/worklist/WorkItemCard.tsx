/** One item: what is wrong, the evidence, the exact remedy, its history; acknowledge, assign, snooze, re-check. */
import {useState} from 'react';
import {Link} from 'react-router';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useActOnWork, useMembers, useWorkItem} from './queries';
import {Button} from '../../design/Button';
import {useMay} from '../../design/may';
import {Card, Small} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {CopyButton} from '../../design/CopyButton';
import {useDone} from '../../design/Done';
import {Field} from '../../design/Field';
import {time, words} from '../../design/format';
import {Loading, Trouble} from '../../design/Notice';
import {RecordText} from '../../design/RecordText';
import {colour, font, space} from '../../design/tokens';

type Details = Schemas['WorkItemDetails'];
const Body = styled.div`
  display: grid;
  gap: ${space.m};
  grid-template-columns: minmax(0, 1fr);
  ul {
    margin: 0;
    padding-left: 18px;
    font: 12px/1.5 ${font.mono};
    overflow-wrap: anywhere;
  }
  ol {
    list-style: none;
    margin: 0;
    padding: 0;
    font-size: 13px;
    max-height: 240px;
    overflow: auto;
  }
  ol li {
    padding: 3px 0;
    overflow-wrap: anywhere;
  }
  h3 {
    font-size: 12px;
    color: ${colour('soft')};
    margin: 0 0 2px;
  }
`;
const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s};
  align-items: end;
`;
/** How long an item can be snoozed. */
export const WHILE = [
  {value: '1', label: '1 day'},
  {value: '7', label: '1 week'},
  {value: '30', label: '30 days'},
];

/** Whom an item can be given to: all who may see its tenant, and who has it although they may not any more. */
export function holders(people: Schemas['Member'][], now: string): {value: string; label: string}[] {
  const known = people.map((each) => ({value: each.email, label: each.name || each.email}));
  const gone = now && !people.some((each) => each.email === now) ? [{value: now, label: now}] : [];
  return [{value: 'nobody', label: 'nobody'}, ...known, ...gone];
}

/** Where to look further. */
export function linkOf(item: Details): {to: string; words: string} | null {
  const name = encodeURIComponent(item.name);
  if (item.subject === 'domain')
    return {
      to: `/domains/${item.tenant}/${name}${item.kind === 'fault' ? '?view=records' : ''}`,
      words: `Open ${item.name}`,
    };
  if (item.subject === 'stream' || item.subject === 'relay')
    return {to: `/readings/${item.tenant}/${item.subject}/${name}`, words: `Open ${item.name}`};
  if (item.subject === 'feed') return {to: `/flow?tenant=${item.tenant}&view=feeds`, words: 'Open feeds'};
  if (item.kind === 'reply') return {to: `/flow?tenant=${item.tenant}&view=causes`, words: 'Open causes'};
  return null;
}

export function WorkItemCard({tenant, id}: {tenant: string; id: number}) {
  const found = useWorkItem(tenant, id);
  const act = useActOnWork(tenant, id);
  const may = useMay();
  const people = useMembers(tenant);
  const [text, setText] = useState('');
  const [days, setDays] = useState('7');
  const tell = useDone();
  if (found.isPending) return <Loading what="the item" />;
  if (found.error) return <Trouble error={found.error} again={() => void found.refetch()} />;
  const item = found.data;
  const link = linkOf(item);
  const live = item.state !== 'resolved';
  /** Does something that can be undone, and says so. */
  const does = (what: Schemas['WorkAct'], said: string) =>
    act.mutate(what, {
      onSuccess: () => {
        setText('');
        tell({
          text: `${item.title}: ${said}.`,
          undo: async () => {
            await act.mutateAsync({act: 'undo', text: '', to: ''});
            return `${item.title}: as before.`;
          },
        });
      },
    });
  return (
    <Card title={item.title} note={item.state === 'resolved' ? 'resolved' : ''}>
      <Body>
        <p>{item.text}</p>
        {item.remedy && (
          <div>
            <h3>What to do</h3>
            <p>{item.remedy}</p>
          </div>
        )}
        {item.record && (
          <div style={{display: 'grid', gap: 8, justifyItems: 'start'}}>
            <RecordText text={item.record} />
            <CopyButton value={item.record} tone="main">
              Copy record
            </CopyButton>
          </div>
        )}
        <Row>
          {live && (
            <Button
              tone="main"
              isDisabled={act.isPending}
              onPress={() => act.mutate({act: 'recheck', text: '', to: ''})}
            >
              {act.isPending ? 'Checking …' : 'Re-check'}
            </Button>
          )}
          {live && item.state !== 'acknowledged' && (
            <Button changes onPress={() => does({act: 'acknowledge', text: '', to: ''}, 'acknowledged')}>
              Acknowledge
            </Button>
          )}
          {(item.state === 'acknowledged' || item.state === 'snoozed') && (
            <Button changes onPress={() => does({act: 'reopen', text: '', to: ''}, 'reopened')}>
              Reopen
            </Button>
          )}
          {live && may && (
            <Choice
              label="assignment"
              value={item.assigned_to || 'nobody'}
              shown={`Assigned to ${holders(people.data ?? [], item.assigned_to).find((each) => each.value === (item.assigned_to || 'nobody'))?.label}`}
              options={holders(people.data ?? [], item.assigned_to)}
              onChange={(to) => does({act: 'assign', text: '', to: to === 'nobody' ? '' : to}, `assigned to ${to}`)}
            />
          )}
          {link && <Link to={link.to}>{link.words}</Link>}
        </Row>
        {live && may && (
          <Row>
            <Field
              label="Comment or reason"
              value={text}
              onChange={setText}
              placeholder="Delisting requested from the list operator"
              style={{flex: 1}}
            />
            <Button
              changes
              isDisabled={!text.trim() || act.isPending}
              onPress={() => act.mutate({act: 'comment', text, to: ''}, {onSuccess: () => setText('')})}
            >
              Comment
            </Button>
            <Choice label="Snooze for" value={days} options={WHILE} onChange={setDays} />
            <Button
              changes
              isDisabled={!text.trim() || act.isPending}
              onPress={() =>
                does(
                  {act: 'snooze', text, to: '', until: new Date(Date.now() + Number(days) * 86_400_000).toISOString()},
                  `snoozed for ${WHILE.find((each) => each.value === days)?.label}`,
                )
              }
            >
              Snooze
            </Button>
          </Row>
        )}
        {act.error && <Trouble error={act.error} />}
        {item.evidence.length > 0 && (
          <div>
            <h3>Evidence</h3>
            <ul>
              {item.evidence.map((line) => (
                <li key={line}>{line}</li>
              ))}
            </ul>
          </div>
        )}
        <div>
          <h3>History</h3>
          <ol>
            {[...item.steps].reverse().map((step) => (
              <li key={step.at + step.what}>
                <Small>{time(step.at)}</Small> <b>{words(step.what)}</b> {step.by && <Small>{step.by}</Small>}{' '}
                {step.text}
              </li>
            ))}
          </ol>
        </div>
      </Body>
    </Card>
  );
}
