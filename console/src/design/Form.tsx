/** Forms: fields on a grid, and the row of buttons below them. */
import styled from 'styled-components';
import {space} from './tokens';

export const FormGrid = styled.form`
  display: grid;
  gap: ${space.m};
  grid-template-columns: repeat(auto-fill, minmax(min(240px, 100%), 1fr));
  align-items: start;
  > [data-wide],
  > footer {
    grid-column: 1 / -1;
  }
  > footer {
    display: flex;
    flex-wrap: wrap;
    gap: ${space.s};
    align-items: center;
  }
`;
