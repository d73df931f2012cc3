/** Rules of the policy in words. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {words} from '../../design/format';

type Rule = Schemas['PolicyRule'];
/** Text in a table's cell that may take several lines. */
export const Text = styled.span`
  white-space: normal;
  display: block;
  min-width: 24ch;
`;

/** When a rule acts, in words. */
export function when(rule: Rule): string {
  const kinds = rule.kinds?.length ? rule.kinds.map(words).join(', ') : 'any event';
  const causes = rule.causes?.length ? `: ${rule.causes.map(words).join(', ')}` : '';
  const lasting = rule.permanence ? `, ${rule.permanence}` : '';
  const where = [
    ...(rule.streams?.length ? [`on ${rule.streams.join(', ')}`] : []),
    ...(rule.providers?.length ? [`at ${rule.providers.join(', ')}`] : []),
  ].join(' ');
  return `${kinds}${causes}${lasting}${where ? ` ${where}` : ''}`;
}

/** What it does, in words. */
export function does(rule: Rule): string {
  if (rule.act === 'nothing') return 'does nothing';
  if (rule.act === 'wait') return 'advises when to retry';
  const what = rule.act === 'propose' ? 'proposes' : 'suppresses';
  const whom = rule.whole_domain ? 'the whole domain' : 'the address';
  const after =
    (rule.times ?? 1) > 1
      ? ` after ${rule.times} messages over ${rule.over_days} days with no delivery between them`
      : ' immediately';
  const long = rule.for_days
    ? `${(rule.times ?? 1) > 1 ? ',' : ''} for ${rule.for_days} days${(rule.longer ?? 1) > 1 ? `, ${rule.longer} times as long after each return` : ''}`
    : ' until removed';
  const far = rule.scope === 'tenant' ? '' : `, for the ${rule.scope} only`;
  const ends = rule.ends_with_delivery ? '; a delivery ends it' : '';
  return `${what} ${whom}${after}${long}${far}${ends}`;
}
