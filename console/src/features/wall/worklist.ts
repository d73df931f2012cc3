/** What to do next, from the wall: broken records and heavy pulls, ranked by the mail that they put at risk. */
import type {Schemas} from '../../api/client';
import {factor, lineOf, measured} from '../../design/format';
import {conditionOf, type Condition} from '../../design/tokens';

type Row = Schemas['WallRow'];

export interface Task {
  id: string;
  tenant: string;
  domain: string;
  condition: Condition;
  title: string;
  text: string;
  record?: string;
  /** Messages delivered in the period that it touches. */
  mail: number;
}

const HEAVY = 5; // points from which one pull is worth a look

export function worklist(rows: Row[]): Task[] {
  return rows.flatMap(tasksOf).sort((a, b) => rank(b) - rank(a));
}

const URGENCY: Record<Condition, number> = {seized: 8, corroded: 4, tarnished: 2, sound: 1};
const rank = (task: Task) => URGENCY[task.condition] * Math.log10(10 + task.mail);

function tasksOf(row: Row): Task[] {
  const value = row.cells.find((cell) => cell.provider === '(all)')?.value;
  const base = {tenant: row.tenant, domain: row.name, mail: row.delivered};
  const tasks: Task[] = [];
  if (row.fault) {
    const reading = value == null ? 'corroded' : conditionOf(Math.min(value, 59));
    tasks.push({
      ...base,
      id: `${row.name}:fault`,
      condition: reading,
      title: row.fault,
      text: row.remedy ?? '',
      record: row.record ?? undefined,
    });
  }
  const pull = row.heaviest;
  if (pull && pull.points >= HEAVY && value != null) {
    const unit = pull.unit ?? 'rate';
    const past = pull.measure >= pull.stop ? `past its stop line of ${lineOf(pull.stop, unit)}` : `its watch line is ${lineOf(pull.watch, unit)}`;
    const worst = row.cells.find((cell) => cell.provider === pull.provider)?.value ?? value;
    tasks.push({
      ...base,
      id: `${row.name}:${pull.factor}`,
      condition: conditionOf(Math.min(worst, 79)),
      title: `${factor(pull.factor)} at ${pull.label}, ${row.name}`,
      text: `${measured(pull.measure, unit)}${unit === 'rate' ? ` (${measured(pull.low, unit)} to ${measured(pull.high, unit)})` : ''}, ${past}. It takes ${pull.points} points off this domain's reading. ${REMEDIES[pull.factor] ?? ''}`,
    });
  }
  return tasks;
}

const REMEDIES: Record<string, string> = {
  complaints: 'Find which part of the list complains, and stop mailing it.',
  bad_addresses: 'Take the addresses that bounced off the list, and check the rest before the next send.',
  refusals: 'Read what the provider says in its replies; mend records first, then slow down.',
  listings: 'Find the listed address and what it sent, mend that, then ask the list to take it off.',
  authentication: 'Mend the record or key that does not pass: see what its replies say, and the audit.',
  engagement: 'Mail is read less than usual there: look where it lands, and who has not opened for long.',
  volume: 'Send less until the usual week has grown, best recipients first.',
  audit: 'Publish the records that the audit asks for.',
  held: 'Ask for clearance before sending: suppressed addresses were mailed again.',
  unsubscribed: 'Ask why readers leave: how often they are mailed, and with what.',
  delays: 'Look whether other senders are delayed too before changing anything.',
};
