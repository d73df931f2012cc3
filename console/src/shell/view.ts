/** What is looked at, kept in the address so that every view can be shared: the tenant and the period. */
import {useSearchParams} from 'react-router';

export const periods = [7, 14, 30, 90, 180] as const;

export function useView(usual = 7) {
  const [search, setSearch] = useSearchParams();
  const asked = Number(search.get('days'));
  const days = periods.some((each) => each === asked) ? asked : usual;
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
