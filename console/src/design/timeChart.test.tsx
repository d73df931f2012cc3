// Charts over days: what is drawn where, what the pointer and the keys tell, and labels that do not meet.
import {cleanup, fireEvent, render, screen} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it, vi} from 'vitest';
import {nearest, TimeChart, upTo, writtenDays, type TimeChartProps} from './TimeChart';

afterEach(cleanup);

const DAYS = ['2026-11-20', '2026-11-21', '2026-11-22', '2026-11-23', '2026-11-24'];
const chart = (props: Partial<TimeChartProps> = {}) =>
  render(
    <TimeChart
      label="Mail by day"
      days={DAYS}
      height={100}
      scale={{high: 10, ticks: [0, 10]}}
      curves={[{name: 'sent', values: [1, 2, null, 4, 5], tone: 'ink', format: (n) => `${n} messages`}]}
      {...props}
    />,
  );
const slider = () => screen.getByRole('slider', {name: 'Mail by day'});
const lines = (container: HTMLElement) =>
  [...container.querySelectorAll('path[fill=none]')].map((path) => path.getAttribute('d') ?? '');

describe('a curve', () => {
  it('has a gap where there is no value, or goes on over it', () => {
    const {container} = chart();
    expect(lines(container)[0]!.match(/M/g)).toHaveLength(2);
    cleanup();
    const bridged = chart({curves: [{name: 'sent', values: [1, 2, null, 4, 5], tone: 'ink', bridged: true}]});
    expect(lines(bridged.container)[0]!.match(/M/g)).toHaveLength(1);
  });

  it('shows a single value between gaps as a point', () => {
    const {container} = chart({curves: [{name: 'sent', values: [null, 2, null, 4, 5], tone: 'ink'}]});
    expect(container.querySelectorAll('circle')).toHaveLength(1);
  });

  it('is drawn without days and values', () => {
    const {container} = chart({days: [], curves: [{name: 'sent', values: [], tone: 'ink'}]});
    expect(container.querySelector('svg')).toBeTruthy();
    expect(slider().getAttribute('aria-valuetext')).toBe('no days');
    expect(container.innerHTML).not.toContain('NaN');
  });

  it('stays inside its scale', () => {
    const {container} = chart({curves: [{name: 'sent', values: [-5, 50, 5, 5, 5], tone: 'ink'}]});
    const heights = [...lines(container)[0]!.matchAll(/[ML][\d.]+,([\d.]+)/g)].map(([, y]) => Number(y));
    expect(Math.min(...heights)).toBeGreaterThanOrEqual(6);
    expect(Math.max(...heights)).toBeLessThanOrEqual(80);
  });
});

describe('the figures of a day', () => {
  it('are read by keys, from the last day on', async () => {
    chart({annotations: [{day: '2026-11-23', kind: 'record', text: 'SPF changed'}] as TimeChartProps['annotations']});
    expect(slider().getAttribute('aria-valuetext')).toBe('24 Nov; sent: 5 messages');
    slider().focus();
    await userEvent.keyboard('{ArrowLeft}');
    expect(slider().getAttribute('aria-valuetext')).toBe('23 Nov; sent: 4 messages; SPF changed');
    await userEvent.keyboard('{Home}');
    expect(slider().getAttribute('aria-valuenow')).toBe('0');
    await userEvent.keyboard('{ArrowLeft}');
    expect(slider().getAttribute('aria-valuenow')).toBe('0');
    await userEvent.keyboard('{End}{Escape}');
    expect(screen.queryByText('sent: 5 messages')).toBeNull();
  });

  it('are shown under the pointer, and the day is chosen by a click or Enter', async () => {
    const onDay = vi.fn();
    chart({onDay});
    fireEvent(slider(), new MouseEvent('pointermove', {bubbles: true, clientX: 42}));
    expect(screen.getByText('sent: 1 messages')).toBeTruthy();
    fireEvent.click(slider());
    slider().focus();
    await userEvent.keyboard('{End}{Enter}');
    expect(onDay.mock.calls).toEqual([['2026-11-20'], ['2026-11-24']]);
  });

  it('leave keys alone that are not theirs', () => {
    chart();
    expect(fireEvent.keyDown(slider(), {key: 'Tab'})).toBe(true);
    expect(fireEvent.keyDown(slider(), {key: 'ArrowRight'})).toBe(false);
  });
});

describe('a chart whose days change', () => {
  it('survives keys and the pointer without days', () => {
    chart({days: [], curves: []});
    fireEvent(slider(), new MouseEvent('pointermove', {bubbles: true, clientX: 42}));
    for (const key of ['End', 'Home', 'ArrowLeft', 'Enter']) fireEvent.keyDown(slider(), {key});
    fireEvent.click(slider());
    expect(slider().getAttribute('aria-valuetext')).toBe('no days');
  });

  it('shows what happened on the day of a moment', () => {
    const happened = [{day: '2026-11-21', kind: 'record', text: 'SPF changed'}] as TimeChartProps['annotations'];
    chart({days: ['2026-11-20T08:00:00Z', '2026-11-21T09:30:00Z'], annotations: happened});
    expect(slider().getAttribute('aria-valuetext')).toBe('21 Nov; sent: 2 messages; SPF changed');
  });
});

describe('parts upon each other', () => {
  it('begin where the one below ends', () => {
    const parts = [
      {name: 'aligned', values: [4, 4, 4, 4, 4], tone: 'sound' as const},
      {name: 'not aligned', values: [2, 0, 2, 2, 2], tone: 'corroded' as const, hatched: true},
    ];
    const {container} = chart({curves: [], columns: parts});
    const [good, bad] = [...container.querySelectorAll('g')].map((group) => [...group.querySelectorAll('rect')]);
    expect([good!.length, bad!.length]).toEqual([5, 4]);
    const bottom = Number(bad![0]!.getAttribute('y')) + Number(bad![0]!.getAttribute('height'));
    expect(bottom).toBeCloseTo(Number(good![0]!.getAttribute('y')));
  });
});

describe('what happened', () => {
  const of = (day: string, kind: string) => ({day, kind, text: `${kind} on ${day}`, domain: '', provider: ''});

  it('is a line with letters on its day, and steps of a warm-up are ticks on the axis', () => {
    const {container} = chart({
      annotations: [
        of('2026-11-21', 'record'),
        of('2026-11-21', 'shift'),
        of('2026-11-22', 'warmup_step'),
        of('2026-11-23', 'warmup_step'),
        of('2026-11-30', 'outage'),
      ] as TimeChartProps['annotations'],
    });
    expect([...container.querySelectorAll('g text')].map((each) => each.textContent)).toEqual(['rs']);
    expect(container.querySelectorAll('[data-step]')).toHaveLength(2);
  });
});

describe('shaded periods', () => {
  it.each([
    [{from: '2026-11-21', to: '2026-11-23'}, 1],
    [{from: '2026-11-01', to: '2026-11-20'}, 1],
    [{from: '2026-11-24', to: '2026-12-30'}, 1],
    [{from: '2026-11-01', to: '2026-11-19'}, 0],
    [{from: '2026-11-25', to: '2026-11-26'}, 0],
  ])('%o', (span, shown) => {
    const {container} = chart({spans: [span]});
    expect(container.querySelectorAll('rect[fill-opacity]')).toHaveLength(shown);
  });
});

it.each([
  [0, 500, []],
  [1, 500, [0]],
  [5, 1000, [0, 1, 2, 3, 4]],
  [90, 216, [0, 30, 59, 89]],
  [180, 10, [0, 179]],
])('of %i days below %i pixels those are written', (n, width, shown) => {
  expect(writtenDays(n, width)).toEqual(shown);
});

it.each([
  [0, 0],
  [14, 0],
  [16, 1],
  [95, 3],
  [900, 3],
])('the day nearest to %i', (x, at) => {
  expect(nearest([10, 20, 30, 90], x)).toBe(at);
});

it.each([
  [1, [0, 1]],
  [7, [0, 2, 4, 6, 8]],
  [930, [0, 200, 400, 600, 800, 1000]],
])('a scale up to %i has round marks', (most, ticks) => {
  const {scale} = upTo(most);
  expect(scale.ticks).toEqual(ticks);
  expect(scale.high).toBeGreaterThanOrEqual(most);
});
