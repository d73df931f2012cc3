import styled from 'styled-components';
import {space} from './tokens';

/** Cards below each other. */
export const Stack = styled.div`
  display: grid;
  gap: ${space.l};
  grid-template-columns: minmax(0, 1fr);
`;

/** Buttons and small things beside each other. */
export const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s};
  align-items: center;
`;
