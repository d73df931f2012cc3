import styled from 'styled-components';
import {space} from './tokens';

/** Cards below each other. */
export const Stack = styled.div`
  display: grid;
  gap: ${space.l};
  grid-template-columns: minmax(0, 1fr);
`;
