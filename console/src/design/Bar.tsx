/** How much of a whole is used, as a bar. Hatching, not only colour, tells that it is nearly used or passed. */
import styled from 'styled-components';
import {colour} from './tokens';

type Sign = 'near' | 'full' | 'over';

const Root = styled.span`
  display: inline-block;
  height: 12px;
  border: 1px solid ${colour('line')};
  vertical-align: middle;
  i {
    display: block;
    height: 100%;
    background: ${colour('sound')};
  }
  i[data-sign='near'] {
    background: repeating-linear-gradient(45deg, ${colour('tarnished')} 0 4px, transparent 4px 6px);
  }
  i[data-sign='full'] {
    background: ${colour('seized')};
  }
  i[data-sign='over'] {
    background: repeating-linear-gradient(45deg, ${colour('corroded')} 0 4px, transparent 4px 6px);
  }
`;

/** `share`: 0 to 1, more is drawn as 1. `of`: what the percentage is of, such as "of the budget". */
export function Bar({share, of, sign, width = 120}: {share: number; of: string; sign?: Sign; width?: number}) {
  return (
    <Root role="img" aria-label={`${Math.round(100 * share)} % ${of}`} style={{width}}>
      <i data-sign={sign} style={{width: `${100 * Math.min(1, share)}%`}} />
    </Root>
  );
}
