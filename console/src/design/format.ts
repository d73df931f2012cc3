/** Numbers and days as people read them. */
import type {Schemas} from '../api/client';

const whole = new Intl.NumberFormat('en-GB');
export const count = (n: number): string => whole.format(n);

export function short(n: number): string {
  if (n < 1000) return String(n);
  if (n < 1_000_000) return `${(n / 1000).toFixed(n < 10_000 ? 1 : 0)} k`;
  return `${(n / 1_000_000).toFixed(2)} M`;
}

/** A fraction as a percentage with as many digits as it needs. */
export const percent = (share: number): string => `${bare(share)} %`;
/** One decimal, two below 1 %, and two digits of what is below 0.01 %: a million messages have such rates. */
export function bare(share: number): string {
  const value = share * 100;
  if (value > 0 && value < 0.01) return value.toFixed(Math.min(7, 1 - Math.floor(Math.log10(value))));
  return value.toFixed(value < 0.995 ? 2 : 1);
}

const dayMonth = new Intl.DateTimeFormat('en-GB', {day: 'numeric', month: 'short', timeZone: 'UTC'});
export const day = (iso: string): string => dayMonth.format(new Date(`${iso.slice(0, 10)}T00:00:00Z`));

/** The first day (ISO) of a period of `days` that ends today, UTC. */
export function firstDay(days: number, now = new Date()): string {
  return new Date(now.getTime() - (days - 1) * 86_400_000).toISOString().slice(0, 10);
}

/** The day so many days before another, ISO. */
export const daysBefore = (iso: string, n: number): string =>
  new Date(Date.parse(`${iso}T00:00:00Z`) - n * 86_400_000).toISOString().slice(0, 10);

export function ago(iso: string, now = new Date()): string {
  const minutes = Math.max(0, Math.round((now.getTime() - new Date(iso).getTime()) / 60_000));
  if (minutes < 1) return 'just now';
  if (minutes < 60) return `${minutes} min ago`;
  if (minutes < 48 * 60) return `${Math.round(minutes / 60)} h ago`;
  return `${Math.round(minutes / 1440)} days ago`;
}

// The zone of whoever is signed in. Days are counted in UTC whatever it is; it is for moments.
let zone = 'UTC';
let clock: Intl.DateTimeFormat;
let stamps: Intl.DateTimeFormat;

/** Shows moments in this zone from now on; one that the browser does not know is UTC. What is shown already stays. */
export function setTimeZone(name: string) {
  const known = (timeZone: string) => {
    clock = new Intl.DateTimeFormat('en-GB', {
      day: 'numeric',
      month: 'short',
      hour: '2-digit',
      minute: '2-digit',
      timeZone,
    });
    // Swedish writes as ISO 8601 does: 2026-11-20 08:00:00.
    stamps = new Intl.DateTimeFormat('sv-SE', {dateStyle: 'short', timeStyle: 'medium', timeZone});
    zone = timeZone;
  };
  try {
    known(name);
  } catch {
    known('UTC');
  }
}
setTimeZone('UTC');

/** What a moment is, with the zone: a table's head. */
export const inZone = (what: string): string => `${what} (${zone})`;
/** The zone that moments are shown in. */
export const zoneName = (): string => zone;
/** A moment, in the person's time zone. */
export const time = (iso: string): string => clock.format(new Date(iso));
/** A moment to the second, in the person's time zone, as ISO 8601 writes it. */
export const stamp = (iso: string): string => stamps.format(new Date(iso));

// The same names as in the terminal, the API and the documentation.
const FACTORS: Record<Schemas['Pull']['factor'], string> = {
  complaints: 'Complaints',
  invalid_addresses: 'Invalid addresses',
  refusals: 'Refusals',
  listings: 'Listings',
  authentication: 'Authentication',
  delays: 'Delays',
  held: 'Held',
  unsubscribes: 'Unsubscribes',
  engagement: 'Engagement',
  volume: 'Volume',
  record_faults: 'Record faults',
  placement: 'Placement',
  alignment: 'Alignment',
};
export const factor = (name: string): string => FACTORS[name as Schemas['Pull']['factor']] ?? words(name);
/** A factor's measure as people read it: a rate, a share of the opens that are usual, a volume, faults. */
export function measured(value: number, unit: string): string {
  if (unit === 'doublings') return `${(2 ** value).toFixed(1)} × the usual volume`;
  if (unit === 'faults') return plural(Math.round(value), 'fault');
  return unit === 'times' && value > 0 ? `${Math.round(100 / value)} % of usual opens` : percent(value);
}
/** A line of a factor, in few signs. */
export function lineOf(value: number, unit: string): string {
  if (unit === 'doublings') return `${(2 ** value).toFixed(1)} ×`;
  if (unit === 'faults') return String(value);
  return unit === 'times' ? `${Math.round(100 / value)} %` : percent(value);
}
export const words = (name: string): string => name.replaceAll('_', ' ');
export const plural = (n: number, word: string): string => `${count(n)} ${word}${n === 1 ? '' : 's'}`;
