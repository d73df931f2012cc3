// The part of a period that charts show: from the address, by handles, and back.
import {cleanup, render, screen} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {MemoryRouter, useLocation} from 'react-router';
import {afterEach, expect, it} from 'vitest';
import {useZoom, ZoomBar} from './zoom';

afterEach(cleanup);

const DAYS = Array.from({length: 20}, (_, i) => `2026-11-${String(i + 1).padStart(2, '0')}`);

function Page() {
  const zoom = useZoom(DAYS);
  return (
    <>
      <ZoomBar zoom={zoom} of="Mail by day" />
      <output data-testid="shown">{DAYS.filter(zoom.shows).length}</output>
      <output data-testid="address">{useLocation().search}</output>
    </>
  );
}
const at = (path: string) =>
  render(
    <MemoryRouter initialEntries={[path]}>
      <Page />
    </MemoryRouter>,
  );
const shown = () => Number(screen.getByTestId('shown').textContent);

it.each([
  ['/', 20],
  ['/?zoom=2026-11-05..2026-11-07', 3],
  ['/?zoom=2026-10-01..2026-11-03', 3],
  ['/?zoom=2026-11-07..2026-11-05', 20],
  ['/?zoom=2027-01-01..2027-02-01', 20],
  ['/?zoom=nonsense', 20],
])('%s shows %i days', (path, days) => {
  at(path);
  expect(shown()).toBe(days);
});

it('is moved by keys, kept in the address, and ended', async () => {
  at('/?tenant=copperline');
  screen.getByRole('slider', {name: /first day shown/}).focus();
  await userEvent.keyboard('{ArrowRight}{ArrowRight}');
  expect(shown()).toBe(18);
  expect(screen.getByTestId('address').textContent).toBe('?tenant=copperline&zoom=2026-11-03..2026-11-20');
  await userEvent.click(screen.getByRole('button', {name: 'Whole period'}));
  expect(shown()).toBe(20);
  expect(screen.getByTestId('address').textContent).toBe('?tenant=copperline');
});
