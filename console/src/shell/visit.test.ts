/** A visit ends with half an hour away; what is new is counted from there. */
import {describe, expect, it} from 'vitest';
import {lastVisit} from './visit';

function storage(): Storage {
  const values = new Map<string, string>();
  return {
    getItem: (key: string) => values.get(key) ?? null,
    setItem: (key: string, value: string) => void values.set(key, value),
  } as Storage;
}
const minute = 60_000;

describe('the last visit', () => {
  it('is the one before a pause of half an hour', () => {
    const [kept, tab] = [storage(), storage()];
    const start = Date.parse('2026-11-20T08:00:00Z');
    expect(lastVisit(start, kept, tab)).toBe('');
    expect(lastVisit(start + 20 * minute, kept, tab)).toBe('');
    expect(lastVisit(start + 60 * minute, kept, tab)).toBe('2026-11-20T08:20:00.000Z');
    expect(lastVisit(start + 80 * minute, kept, tab)).toBe('2026-11-20T08:20:00.000Z');
  });

  it('is unknown where the browser keeps nothing', () => {
    const off = {
      getItem: () => {
        throw new Error('denied');
      },
    } as unknown as Storage;
    expect(lastVisit(0, off, off)).toBe('');
  });
});
