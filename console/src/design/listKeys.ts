/** Keys for lists: j and k, or the arrows, move; letters act on what is chosen. Not while somebody types. */
import {useEffect} from 'react';

interface ListKeys {
  /** Ids in the order of the list. */
  ids: readonly string[];
  chosen: string | null;
  onChoose: (id: string) => void;
  /** What single letters do with the chosen one. */
  acts?: Record<string, () => void>;
}

const MOVES: Record<string, number> = {j: 1, ArrowDown: 1, k: -1, ArrowUp: -1};
/** Whether a key is meant for what has the focus, not for the page. */
export const isTyping = (target: EventTarget | null) =>
  target instanceof Element &&
  target.closest(
    'input:not([type="checkbox"]), textarea, select, [contenteditable], [role="dialog"], [role="listbox"], [role="menu"]',
  ) !== null;

/** What a key does: the id to choose, the act, or nothing. */
export function meant(key: string, {ids, chosen, acts = {}}: Omit<ListKeys, 'onChoose'>): string | (() => void) | null {
  const step = MOVES[key];
  if (step) {
    const at = chosen === null ? -1 : ids.indexOf(chosen);
    return ids[Math.min(ids.length - 1, Math.max(0, at + step))] ?? null;
  }
  return chosen !== null && Object.hasOwn(acts, key) ? acts[key]! : null;
}

export function useListKeys({ids, chosen, onChoose, acts}: ListKeys) {
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      if (event.ctrlKey || event.metaKey || event.altKey || isTyping(event.target)) return;
      const found = meant(event.key, {ids, chosen, acts});
      if (found === null) return;
      event.preventDefault();
      if (typeof found === 'string') onChoose(found);
      else found();
    };
    window.addEventListener('keydown', press);
    return () => window.removeEventListener('keydown', press);
  });
}
