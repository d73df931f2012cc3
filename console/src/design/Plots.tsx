/** Small plots side by side, one for each provider: their grid, and the line above each. */
import styled from 'styled-components';
import {space} from './tokens';

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
