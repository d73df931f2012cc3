import {act, cleanup, render, screen} from '@testing-library/react';
import {afterEach, describe, expect, it} from 'vitest';
import {noteViews, useViews} from './views';

function Shown() {
  const views = useViews();
  return <p>{views ? `${views.fromPrimary ? 'primary' : 'replica'} ${views.lag ?? 'away'}` : 'none'}</p>;
}

describe('where views come from', () => {
  afterEach(cleanup);

  it('is what the newest answer says', () => {
    render(<Shown />);
    for (const [header, text] of [
      [null, 'none'],
      ['replica; lag=0.4', 'replica 0.4'],
      ['primary; lag=42.0', 'primary 42'],
      [null, 'primary 42'],
      ['primary; replica=away', 'primary away'],
      ['replica; lag=1.0', 'replica 1'],
    ] as const) {
      act(() => noteViews(header));
      expect(screen.getByText(text)).toBeTruthy();
    }
  });
});
