/** Small plots side by side, one for each provider: their grid, the line above each, and what a pointer shows. */
import styled from 'styled-components';
import {day} from './format';
import {colour, space} from './tokens';

export const Plots = styled.div`
  display: grid;
  gap: ${space.m};
  grid-template-columns: repeat(auto-fill, minmax(220px, 1fr));
`;
export const PlotName = styled.p`
  display: flex;
  justify-content: space-between;
  gap: ${space.s};
  margin: 0;
  font-weight: 600;
  font-size: 13px;
`;
export const PlotTip = styled.div`
  background: ${colour('sheet')};
  border: 1px solid ${colour('line')};
  padding: 4px 8px;
  font-size: 12px;
  max-width: 34ch;
`;

const MARKS = {tick: {fontSize: 10, fill: colour('soft')}, tickLine: false};

/** The days below a small plot. */
export const DAYS = {
  dataKey: 'day',
  height: 16,
  tickFormatter: day,
  stroke: colour('line'),
  interval: 'preserveStartEnd',
  minTickGap: 60,
  ...MARKS,
} as const;

/** Its scale, from 0 to `top`. */
export const scaleTo = (top: number) => ({width: 40, domain: [0, top], ticks: [0, top], axisLine: false, ...MARKS});
