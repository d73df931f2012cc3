/** A chart's control, and what its file holds. */
import {cleanup, render, screen} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it, vi} from 'vitest';
import {chartSvg} from './chartFile';
import {ChartView} from './ChartView';

afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});
const rows = [
  {day: '2026-11-20', sent: 12},
  {day: '2026-11-21', sent: 9},
];
const chart = (
  <ChartView
    label="Mail by day"
    file="days-glasswort"
    columns={[
      {name: 'Day', value: (row: (typeof rows)[number]) => row.day},
      {name: 'Sent', value: (row) => row.sent, number: true},
    ]}
    rows={rows}
    id={(row) => row.day}
  >
    <p data-chart-text>Tidepost &amp; others</p>
    <svg data-testid="drawing" style={{color: 'red'}}>
      <rect width="10" height="5" className="column" style={{fill: 'rgb(1, 2, 3)'}} />
    </svg>
    <svg data-testid="sign" />
  </ChartView>
);

/** jsdom lays nothing out: the drawing is as large as a chart, the sign as large as a sign. */
function laidOut() {
  vi.spyOn(Element.prototype, 'getBoundingClientRect').mockImplementation(function (this: Element) {
    const small = this.getAttribute('data-testid') === 'sign';
    return new DOMRect(8, 8, small ? 12 : 300, small ? 12 : 90);
  });
}

describe('a chart', () => {
  it('has its figures as a table, in the same place', async () => {
    render(chart);
    await userEvent.click(screen.getByRole('button', {name: 'Show table'}));
    expect(screen.getByRole('table', {name: 'Mail by day'}).textContent).toContain('2026-11-219');
    await userEvent.click(screen.getByRole('button', {name: 'Show chart'}));
    expect(screen.queryByRole('table')).toBeNull();
  });

  it('is a drawing of its own as SVG: title, texts, colours as shown, nothing that leans on the page', () => {
    vi.stubGlobal('DOMRect', class { constructor(public left = 0, public top = 0, public width = 0, public height = 0) {} get bottom() { return this.top + this.height; } }); // prettier-ignore
    laidOut();
    const {container} = render(chart);
    const svg = chartSvg(container, 'Mail by day');
    const read = new DOMParser().parseFromString(svg, 'image/svg+xml');
    expect(read.querySelector('parsererror')).toBeNull();
    expect([...read.querySelectorAll('text')].map((each) => each.textContent)).toEqual([
      'Mail by day',
      'Tidepost & others',
    ]);
    expect(read.querySelectorAll('svg svg')).toHaveLength(1); // the sign stays out
    const column = read.querySelector('svg svg rect')!;
    expect(column.getAttribute('fill')).toBe('rgb(1, 2, 3)');
    expect(svg).not.toMatch(/class=|style=|var\(/);
    vi.unstubAllGlobals();
  });
});
