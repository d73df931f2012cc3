/** Where copies landed: a bar with a pattern for each outcome, and the share in the inbox with its interval. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Small} from '../../design/Card';
import {colour} from '../../design/tokens';

type Outcome = Schemas['PlacementCopy']['outcome'];
type Copies = Schemas['ProviderPlacement']['copies'];

export const TITLES: Record<Outcome, string> = {
  inbox: 'inbox',
  other: 'another category',
  spam: 'spam',
  missing: 'missing',
  refused: 'refused',
  sent: 'not found yet',
  queued: 'not sent yet',
  unread: 'seed not read',
  not_sent: 'not sent',
};
/** In the order in which a bar shows them. */
const ORDER = Object.keys(TITLES) as Outcome[];

const Bar = styled.span`
  display: inline-flex;
  width: 120px;
  height: 12px;
  border: 1px solid ${colour('line')};
  vertical-align: middle;
  span {
    height: 100%;
  }
  [data-outcome='inbox'] {
    background: ${colour('sound')};
  }
  [data-outcome='other'] {
    background: repeating-linear-gradient(90deg, ${colour('sound')} 0 2px, transparent 2px 5px);
  }
  [data-outcome='spam'] {
    background: repeating-linear-gradient(45deg, ${colour('corroded')} 0 3px, transparent 3px 5px);
  }
  [data-outcome='missing'],
  [data-outcome='refused'] {
    background: ${colour('seized')};
  }
  [data-outcome='unread'],
  [data-outcome='not_sent'] {
    background: repeating-linear-gradient(0deg, ${colour('soft')} 0 1px, transparent 1px 4px);
  }
`;

export const told = (copies: Copies): string =>
  ORDER.filter((each) => copies[each])
    .map((each) => `${copies[each]} ${TITLES[each]}`)
    .join(', ');

export function Landed({copies, width = 120}: {copies: Copies; width?: number}) {
  const total = ORDER.reduce((sum, each) => sum + (copies[each] ?? 0), 0);
  return (
    <Bar role="img" aria-label={told(copies)} title={told(copies)} style={{width}}>
      {ORDER.filter((each) => copies[each]).map((each) => (
        <span key={each} data-outcome={each} style={{width: `${(100 * (copies[each] ?? 0)) / Math.max(1, total)}%`}} />
      ))}
    </Bar>
  );
}

const whole = (share: number) => Math.round(100 * share);

/** A share of few copies says little about all mail: the interval says how little. */
export function InInbox({rate}: {rate: Schemas['Rate'] | null}) {
  if (!rate) return <Small>not known</Small>;
  return (
    <span style={{whiteSpace: 'nowrap'}}>
      {rate.count} of {rate.total}{' '}
      <Small>
        ({whole(rate.low)} to {whole(rate.high)} %)
      </Small>
    </span>
  );
}

export const caution = (rate: Schemas['Rate'] | null): string =>
  rate && rate.high - rate.low > 0.3
    ? `${rate.total === 1 ? '1 copy says' : `${rate.total} copies say`} little: between ${whole(rate.low)} and ${whole(
        rate.high,
      )} % of such mail may go to the inbox.`
    : '';
