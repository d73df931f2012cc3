/** Keys for lists: j and k, or the arrows, move; letters act on what is chosen. Not while somebody types. */
import {useEffect, useRef} from 'react';

interface ListKeys {
  /** Ids in the order of the list. */
  ids: readonly string[];
  chosen: string | null;
  onChoose: (id: string) => void;
  /** What single letters do with the chosen one. */
  acts?: Record<string, (id: string) => void>;
}

const MOVES: Record<string, number> = {j: 1, ArrowDown: 1, k: -1, ArrowUp: -1};
/** Whether a key is meant for what has the focus, not for the page. */
export const isTyping = (target: EventTarget | null) =>
  target instanceof Element &&
  target.closest(
    'input:not([type="checkbox"]), textarea, select, [contenteditable], [role="dialog"], [role="listbox"], [role="menu"]',
  ) !== null;

/** What a key does: the id to choose, the act, or nothing. */
export function meant(
  key: string,
  {ids, chosen, acts = {}}: Omit<ListKeys, 'onChoose'>,
): string | ((id: string) => void) | null {
  const step = MOVES[key];
  if (step) {
    const at = chosen === null ? -1 : ids.indexOf(chosen);
    return ids[Math.min(ids.length - 1, Math.max(0, at + step))] ?? null;
  }
  return chosen !== null && Object.hasOwn(acts, key) ? acts[key]! : null;
}

export function useListKeys({ids, chosen, onChoose, acts}: ListKeys) {
  // What was chosen by a key counts at once, also while the page that shows it is still under way.
  const latest = useRef(chosen);
  useEffect(() => {
    latest.current = chosen;
  }, [chosen]);
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      if (event.ctrlKey || event.metaKey || event.altKey || isTyping(event.target)) return;
      const now = latest.current ?? chosen;
      const found = meant(event.key, {ids, chosen: now, acts});
      if (found === null) return;
      event.preventDefault();
      if (typeof found === 'string') {
        latest.current = found;
        onChoose(found);
      } else if (now !== null) found(now);
    };
    window.addEventListener('keydown', press);
    return () => window.removeEventListener('keydown', press);
  });
}
