/** What the set-up page detail: states in words, the sentence on top, and files to take away. */
import type {Schemas} from '../../api/client';
import {plural} from '../../design/format';

export type Plan = Schemas['Plan'];
export type PlanRecord = Schemas['PlanRecord'];
type State = Schemas['RecordCheck']['state'];

export const LEVELS = {
  matches: 'right',
  spreading: 'risk',
  differs: 'fault',
  dangling: 'fault',
  missing: 'fault',
  misplaced: 'fault',
  duplicated: 'fault',
  unanswered: 'note',
  waiting: 'note',
} as const;

export const PURPOSES: Record<string, string> = {
  spf: 'SPF record',
  dkim: 'DKIM key',
  dmarc: 'DMARC policy',
  mx: 'inbound mail',
  return_path: 'return path',
  tracking: 'tracking links',
  mta_sts: 'MTA-STS policy',
  tls_rpt: 'TLS reporting',
  helo: 'host address',
  ptr: 'reverse DNS',
  proof: 'ownership proof',
};

/** What matters first: how far it is, and what to do next. */
export function sentence(plan: Plan): {strong: string; rest: string} {
  const ours = plan.records.filter((each) => !each.elsewhere);
  const by = (state: State) => ours.filter((each) => each.check?.state === state);
  if (ours.length === 0) return {strong: 'No plan yet.', rest: 'Add a stream and the relays that carry it.'};
  if (plan.right === plan.total)
    return {strong: 'Every record is published as planned.', rest: 'Watch until all resolvers return it.'};
  const wrong = [...by('misplaced'), ...by('duplicated'), ...by('differs'), ...by('dangling')];
  const strong = `${plan.right} of ${plural(plan.total, 'record')} ${plan.right === 1 ? 'is' : 'are'} published as planned.`;
  const first = wrong[0];
  if (first) {
    const why = first.check?.causes[0]?.text ?? 'it differs';
    return {strong, rest: `${first.forms.host} ${first.type}: ${why}.`};
  }
  const missing = by('missing');
  if (missing.length)
    return {
      strong,
      rest: `${plural(missing.length, 'record')} to publish, first ${missing[0]!.forms.host} ${missing[0]!.type}.`,
    };
  const waiting = by('waiting');
  if (waiting.length) return {strong, rest: `${waiting[0]!.forms.host} waits for ${waiting[0]!.waits_for}.`};
  return {strong, rest: 'The name servers do not all agree yet.'};
}

export function zoneFile(plan: Plan): string {
  const lines = [`; ${plan.domain}: ${plural(plan.total, 'record')} for the zone ${plan.zone}`];
  for (const each of plan.records) {
    const off = each.elsewhere || each.waits_for ? '; ' : '';
    lines.push(`; ${each.why}${each.waits_for ? ` - waits for ${each.waits_for}` : ''}`, off + each.forms.zone_line);
  }
  return lines.join('\n') + '\n';
}

export const csvColumns = ['purpose', 'host', 'type', 'priority', 'ttl', 'value', 'state', 'causes', 'zone_line'];
export const csvRow = (each: PlanRecord) => [
  each.purpose,
  each.forms.host_full,
  each.type,
  each.priority,
  each.ttl,
  each.value,
  each.check?.state ?? '',
  each.check?.causes.map((cause) => cause.text).join('; ') ?? '',
  each.forms.zone_line,
];
