/** Small plots side by side, one for each provider: their grid, the line above each, and what a pointer shows. */
import styled from 'styled-components';
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
