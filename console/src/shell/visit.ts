/** When a person was here before, so that pages can say what is new since then. Kept in the browser. */

const KEY = 'last seen';
const VISIT = 'last visit';
const PAUSE = 30 * 60_000; // milliseconds away after which it is another visit

/**
 * The end of the visit before this one, as ISO 8601; empty on the first. Call it when a page is opened: it also notes
 * that somebody is here now.
 */
export function lastVisit(now = Date.now(), kept: Storage = localStorage, tab: Storage = sessionStorage): string {
  try {
    const seen = Number(kept.getItem(KEY) ?? 0);
    if (seen && now - seen > PAUSE) tab.setItem(VISIT, new Date(seen).toISOString());
    kept.setItem(KEY, String(now));
    return tab.getItem(VISIT) ?? '';
  } catch {
    return ''; // storage is off: nothing is known of earlier visits
  }
}
