/** Which key does what in a list. */
import {describe, expect, it, vi} from 'vitest';
import {meant} from './listKeys';

const ids = ['a', 'b', 'c'];

describe('keys of a list', () => {
  it('move within its ends', () => {
    expect(meant('j', {ids, chosen: 'a'})).toBe('b');
    expect(meant('ArrowDown', {ids, chosen: 'c'})).toBe('c');
    expect(meant('k', {ids, chosen: 'b'})).toBe('a');
    expect(meant('ArrowUp', {ids, chosen: 'a'})).toBe('a');
    expect(meant('j', {ids, chosen: null})).toBe('a');
    expect(meant('j', {ids: [], chosen: null})).toBeNull();
  });

  it('act on what is chosen only', () => {
    const acknowledge = vi.fn();
    expect(meant('a', {ids, chosen: 'a', acts: {a: acknowledge}})).toBe(acknowledge);
    expect(meant('a', {ids, chosen: null, acts: {a: acknowledge}})).toBeNull();
    expect(meant('x', {ids, chosen: 'a', acts: {a: acknowledge}})).toBeNull();
    expect(meant('toString', {ids, chosen: 'a', acts: {}})).toBeNull();
  });
});
