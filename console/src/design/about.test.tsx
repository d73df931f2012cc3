// What a number is, opened beside the head of its column.
import {cleanup, render, screen, within} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {MemoryRouter} from 'react-router';
import {afterEach, expect, it} from 'vitest';
import {withBrowserParts} from '../testing';
import {DataTable} from './DataTable';

withBrowserParts();
afterEach(cleanup);

it('has formula, source, period and the way to the events, and does not sort', async () => {
  const about = {
    formula: 'bounces / messages',
    source: 'events',
    period: 'last week',
    events: {to: '/flow?view=trails', label: 'Events'},
  };
  render(
    <MemoryRouter>
      <DataTable
        label="Rates"
        columns={[{name: 'Permanent', value: (row: {n: number}) => row.n, number: true, about}]}
        rows={[{n: 2}, {n: 1}]}
        id={(row) => String(row.n)}
      />
    </MemoryRouter>,
  );
  await userEvent.click(screen.getByRole('button', {name: 'About Permanent'}));
  const panel = await screen.findByRole('dialog', {name: 'About Permanent'});
  for (const text of [about.formula, about.source, about.period]) expect(within(panel).getByText(text)).toBeTruthy();
  expect(within(panel).getByRole('link', {name: 'Events'}).getAttribute('href')).toBe('/flow?view=trails');
  await userEvent.keyboard('{Escape}');
  expect(screen.getAllByRole('cell').map((cell) => cell.textContent)).toEqual(['2', '1']);
  expect(screen.getByRole('columnheader', {name: 'Permanent'})).toBeTruthy();
});
