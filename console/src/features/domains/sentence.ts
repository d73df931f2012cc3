/** The sentence at the top of a domain's page: what matters most about it. */
import type {Schemas} from '../../api/client';
import {factor, measured, plural} from '../../design/format';

type Reading = Schemas['Reading'];
type Audit = Schemas['Audit'];

export interface Sentence {
  strong: string;
  rest: string;
}

export function sentence(reading: Reading | undefined, audit: Audit | undefined): Sentence {
  const fault = audit?.findings.find((each) => each.level === 'fault');
  const pull = reading?.pulls?.[0];
  const lost = reading?.value == null ? 0 : 100 - reading.value;
  const records = fault ? `${fault.title}.` : '';
  if (reading?.value != null && pull && pull.points >= 2) {
    const unit = pull.unit ?? 'rate';
    const line =
      pull.measure >= pull.stop
        ? 'above the stop line'
        : pull.measure >= pull.watch
          ? 'above the watch line'
          : 'below the watch line';
    return {
      strong: `${factor(pull.factor)} at ${pull.label} took ${pull.points} of the ${lost.toFixed(1)} missing points.`,
      rest: `${unit === 'rate' ? 'The estimated rate is' : 'It is at'} ${measured(pull.measure, unit)}, ${line}. ${records}`.trim(),
    };
  }
  if (fault) return {strong: records, rest: fault.reason};
  if (reading?.value != null) {
    const risks = audit?.risks ? `Its records have ${plural(audit.risks, 'risk')}.` : 'No faults found.';
    return {strong: 'No factor lowers it noticeably.', rest: audit ? risks : ''};
  }
  return {
    strong: reading ? 'Too little mail for a reading.' : 'No mail counted for this domain.',
    rest: records,
  };
}

/** For how many days, this one included, the condition has been what it is; null where that is not known. */
export function conditionDays(readings: Reading[]): number | null {
  const last = readings.at(-1)?.condition;
  if (!last) return null;
  const changed = readings.findLastIndex((each) => each.condition !== last);
  return changed < 0 ? null : readings.length - 1 - changed;
}
