/** What is looked at, kept in the address so that every view can be shared: the tenant and the period. */
import {useSearchParams} from 'react-router';

export const periods = [7, 14, 30, 90, 180, 365] as const;

/** `usual`: days where the address says nothing; `most`: days that the page can show. */
export function useView(usual = 7, most = 180) {
  const [search, setSearch] = useSearchParams();
  const asked = Number(search.get('days'));
  const days = periods.some((each) => each === asked) ? Math.min(asked, most) : usual;
  const change = (name: string, value: string, replace: boolean) =>
    setSearch(
      (now) => {
        const next = new URLSearchParams(now);
        if (value) next.set(name, value);
        else next.delete(name);
        return next;
      },
      {replace},
    );
  /** Changes how something is shown: the same place in the browser's history. */
  const set = (name: string, value: string) => change(name, value, true);
  /** Opens something: a step that the browser's Back undoes. */
  const go = (name: string, value: string) => change(name, value, false);
  const clear = (...names: string[]) =>
    setSearch(
      (now) => {
        const next = new URLSearchParams(now);
        for (const name of names) next.delete(name);
        return next;
      },
      {replace: true},
    );
  return {days, tenant: search.get('tenant') ?? '', get: (name: string) => search.get(name) ?? '', set, go, clear};
}

/** The period of a page: days that it shows at first, and the most; null where nothing on it has a period. */
export function periodOf(path: string, tab: string): {usual: number; most: number} | null {
  if (path === '/suppression') return tab === 'growth' ? {usual: 90, most: 365} : null;
  if (/^\/(bench|placement)(\/|$)/.test(path))
    return path === '/bench' && tab === 'placement' ? {usual: 90, most: 365} : null;
  if (path === '/domains' || /^\/(settings|docs|worklist|account)(\/|$)/.test(path)) return null;
  if (path === '/domains/reports' || path === '/readings') return {usual: 30, most: 180};
  if (path === '/report') return {usual: 30, most: 90};
  if (/^\/(domains|readings)\//.test(path)) return {usual: 90, most: 180};
  return {usual: 7, most: 180};
}
