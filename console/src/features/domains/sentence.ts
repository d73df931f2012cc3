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
    const line =
      pull.measure >= pull.stop
        ? 'past the stop line'
        : pull.measure >= pull.watch
          ? 'past the watch line'
          : 'below the watch line';
    return {
      strong: `${factor(pull.factor)} at ${pull.label} took ${pull.points} of the ${lost.toFixed(1)} missing points.`,
      rest: `It stands at ${measured(pull.measure, pull.unit ?? 'rate')}, ${line}. ${records}`.trim(),
    };
  }
  if (fault) return {strong: records, rest: fault.reason};
  if (reading?.value != null) {
    const risks = audit?.risks
      ? `Its records have ${plural(audit.risks, 'risk')}.`
      : 'Nothing was found wrong with its records.';
    return {strong: 'Nothing pulls it down noticeably.', rest: audit ? risks : ''};
  }
  return {
    strong: reading ? 'Too little mail to say how it stands.' : 'No mail of this domain has been counted.',
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
