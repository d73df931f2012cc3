/** Where views come from: with a replica, each answer says so (`Views-From`). */
import {useSyncExternalStore} from 'react';

export interface Views {
  /** Whether the database itself is read, as the replica is away or too far behind. */
  fromPrimary: boolean;
  /** Seconds that the replica is behind; undefined where it does not answer. */
  lag?: number;
}

let views: Views | undefined;
const listeners = new Set<() => void>();

/** Take note of what an answer says; answers of a service without a replica say nothing. */
export function noteViews(header: string | null) {
  if (header === null) return;
  const lag = /lag=([\d.]+)/.exec(header)?.[1];
  const next = {fromPrimary: header.startsWith('primary'), lag: lag === undefined ? undefined : Number(lag)};
  if (next.fromPrimary === views?.fromPrimary && Math.round(next.lag ?? -1) === Math.round(views?.lag ?? -1)) return;
  views = next;
  listeners.forEach((tell) => tell());
}

const listen = (tell: () => void) => {
  listeners.add(tell);
  return () => void listeners.delete(tell);
};

export const useViews = (): Views | undefined => useSyncExternalStore(listen, () => views);
