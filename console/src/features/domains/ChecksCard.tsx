/** The check-list of an audit, and what large mailbox providers ask of bulk senders. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Card, Small, Soft} from '../../design/Card';
import {colour} from '../../design/tokens';

type Audit = Schemas['Audit'];
type State = Schemas['CheckPoint']['state'];

/** Each state has its own mark and word, so that nothing hangs on colour. */
const MARKS: Record<State, [string, string, Parameters<typeof colour>[0]]> = {
  good: ['■', 'met', 'sound'],
  fault: ['×', 'fault', 'seized'],
  risk: ['▲', 'risk', 'tarnished'],
  note: ['○', 'note', 'soft'],
  absent: ['–', 'not used', 'soft'],
  unmeasured: ['?', 'unknown', 'soft'],
};

const List = styled.ul`
  list-style: none;
  margin: 0;
  padding: 0;
  font-size: 13px;
  li {
    display: grid;
    grid-template-columns: 16px 128px minmax(0, 1fr);
    gap: 6px;
    padding: 5px 0;
    border-top: 1px solid ${colour('line')};
  }
  li:first-child {
    border: 0;
  }
  b {
    font-weight: 600;
  }
  span {
    overflow-wrap: anywhere;
  }
`;

export function ChecksCard({audit}: {audit: Audit}) {
  const points = audit.checks ?? [];
  const bad = points.filter((point) => point.state === 'fault' || point.state === 'risk').length;
  return (
    <Card title="Checklist" note={`${points.length} requirements, ${bad} not met`}>
      {points.length === 0 && <Soft>This audit predates the checklist. Re-check.</Soft>}
      <List aria-label="Checklist">
        {points.map((point) => {
          const [mark, word, name] = MARKS[point.state];
          return (
            <li key={point.key}>
              <b aria-hidden style={{color: colour(name)}}>
                {mark}
              </b>
              <span>
                {point.title}
                <br />
                <Small style={{color: colour(name)}}>{word}</Small>
              </span>
              <span>{point.summary}</span>
            </li>
          );
        })}
      </List>
    </Card>
  );
}

const BULK = {
  met: ['■', 'sound'],
  not_met: ['×', 'seized'],
  unmeasured: ['?', 'soft'],
  not_applicable: ['–', 'soft'],
} as const;
const WORDS = {
  met: 'met',
  not_met: 'not met',
  unmeasured: 'not measured yet',
  not_applicable: 'does not apply',
} as const;

export function BulkCard({audit}: {audit: Audit}) {
  const points = audit.bulk ?? [];
  if (!points.length) return null;
  return (
    <Card title="Bulk-sender readiness" note="requirements of large mailbox providers, as measured here">
      <List aria-label="Bulk-sender readiness">
        {points.map((point) => (
          <li key={point.key}>
            <b aria-hidden style={{color: colour(BULK[point.state][1])}}>
              {BULK[point.state][0]}
            </b>
            <span>
              {WORDS[point.state]}
              <br />
              <Small>since {point.since}</Small>
            </span>
            <span>
              {point.text}
              <br />
              <Small>{point.detail}</Small>
            </span>
          </li>
        ))}
      </List>
    </Card>
  );
}
