import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Card, Small, Soft} from '../../design/Card';
import {factor, lineOf, measured} from '../../design/format';
import {colour} from '../../design/tokens';

const List = styled.ul`
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  gap: 7px;
  li { display: grid; grid-template-columns: 196px 1fr 34px; gap: 8px; align-items: center; }
  i { display: block; height: 14px; min-width: 1px; }
  b { font-weight: 600; text-align: right; font-size: 13px; }
  span { font-size: 13px; line-height: 1.2; }
`;

export function PullsCard({reading}: {reading: Schemas['Reading'] | undefined}) {
  if (!reading || reading.value == null) return null;
  const pulls = (reading.pulls ?? []).filter((pull) => pull.points > 0);
  const shown = pulls.slice(0, 7);
  const rest = pulls.slice(7).reduce((sum, pull) => sum + pull.points, 0);
  const most = Math.max(10, ...shown.map((pull) => pull.points));
  const total = pulls.reduce((sum, pull) => sum + pull.points, 0);
  return (
    <Card title="What pulls it down" note={`100 − ${total.toFixed(1)} = ${reading.value}`}>
      {pulls.length === 0 && <Soft>Nothing.</Soft>}
      <List>
        {shown.map((pull) => (
          <li key={pull.factor + pull.provider}>
            <span>
              {factor(pull.factor)}, {pull.label}
              <br />
              <Small>
                {measured(pull.measure, pull.unit ?? 'rate')}, lines {lineOf(pull.watch, pull.unit ?? 'rate')} and {lineOf(pull.stop, pull.unit ?? 'rate')}
              </Small>
            </span>
            <i
              style={{
                width: `${(100 * pull.points) / most}%`,
                background: colour(pull.measure >= pull.stop ? 'corroded' : pull.measure >= pull.watch ? 'tarnished' : 'soft'),
              }}
            />
            <b>{pull.points}</b>
          </li>
        ))}
        {rest > 0 && (
          <li>
            <Small>{pulls.length - 7} smaller ones</Small>
            <i />
            <b>{rest.toFixed(1)}</b>
          </li>
        )}
      </List>
    </Card>
  );
}
