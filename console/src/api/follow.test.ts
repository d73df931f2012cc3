/** What is refreshed when something changes: the first change at once, a storm of them now and then. */
import {afterEach, beforeEach, describe, expect, it, vi} from 'vitest';
import {collector, STALE} from './follow';

describe('changes', () => {
  beforeEach(() => vi.useFakeTimers());
  afterEach(() => vi.useRealTimers());

  it('refresh at once, then once in a pause', () => {
    const invalidateQueries = vi.fn();
    const changed = collector({invalidateQueries}, 1000);
    for (let n = 0; n < 50; n++) changed('worklist');
    expect(invalidateQueries).toHaveBeenCalledTimes(1);
    vi.advanceTimersByTime(1000);
    expect(invalidateQueries).toHaveBeenCalledTimes(2);
    vi.advanceTimersByTime(5000);
    expect(invalidateQueries).toHaveBeenCalledTimes(2);
    changed('worklist');
    expect(invalidateQueries).toHaveBeenCalledTimes(3);
  });

  it('of an unknown kind refresh nothing', () => {
    const invalidateQueries = vi.fn();
    collector({invalidateQueries})('something new');
    expect(invalidateQueries).not.toHaveBeenCalled();
    expect(Object.keys(STALE)).toEqual([
      'events',
      'readings',
      'worklist',
      'domains',
      'jobs',
      'suppression',
      'watches',
      'placement',
      'reports',
      'warmup',
      'settings',
    ]);
  });
});
