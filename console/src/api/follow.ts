/** Follows what changes in the service, so that open pages show it without being asked for again and again. */
import {useQueryClient, type QueryClient} from '@tanstack/react-query';
import {useEffect} from 'react';

/** What a change of a kind makes stale, by the first part of query keys. */
export const STALE: Record<string, string[]> = {
  events: ['events', 'flow', 'flow-days', 'causes', 'feeds', 'shifts', 'suppression', 'plan'],
  readings: ['wall', 'readings'],
  worklist: ['worklist'],
  domains: ['domains', 'audit', 'audits', 'history', 'comparison', 'wall'],
  jobs: ['jobs'],
  suppression: ['suppression', 'lines'],
  watches: ['watches'],
  placement: ['placement'],
  reports: ['reports'],
  warmup: ['warmup', 'annotations'],
  settings: ['tenant-settings', 'reading-settings', 'providers', 'wall'],
};
const PAUSE = 3000; // milliseconds between two refreshes of one kind, however much happens

/** Collects changes, and makes stale what they touch: at once the first time, then after a pause. */
export function collector(queries: Pick<QueryClient, 'invalidateQueries'>, pause = PAUSE) {
  const resting = new Map<string, boolean>(); // by kind: whether more came during the pause
  const refresh = (what: string) => {
    for (const key of STALE[what] ?? []) void queries.invalidateQueries({queryKey: [key]});
    resting.set(what, false);
    setTimeout(() => {
      const more = resting.get(what);
      resting.delete(what);
      if (more) refresh(what);
    }, pause);
  };
  return (what: string) => {
    if (resting.has(what)) resting.set(what, true);
    else refresh(what);
  };
}

/** Follow while the page can be seen: a browser has few connections to a host, and hidden pages need none. */
export function useFollow() {
  const queries = useQueryClient();
  useEffect(() => {
    if (typeof EventSource === 'undefined') return;
    const changed = collector(queries);
    let source: EventSource | null = null;
    let wasOpen = false;
    const open = () => {
      source = new EventSource('/api/v1/changes');
      source.addEventListener('open', () => {
        // After a gap nobody knows what was missed.
        if (wasOpen) for (const what of Object.keys(STALE)) changed(what);
        wasOpen = true;
      });
      source.addEventListener('changed', (event) => changed((JSON.parse(event.data) as {what: string}).what));
    };
    const show = () => {
      source?.close();
      source = null;
      if (!document.hidden) open();
    };
    show();
    document.addEventListener('visibilitychange', show);
    return () => {
      document.removeEventListener('visibilitychange', show);
      source?.close();
    };
  }, [queries]);
}
