/** Forms: fields on a grid, and the row of buttons below them. */
import type {ComponentProps} from 'react';
import styled from 'styled-components';
import {useMay, type Role} from './may';
import {space} from './tokens';

const Root = styled.form`
  display: grid;
  gap: ${space.m};
  grid-template-columns: repeat(auto-fill, minmax(min(240px, 100%), 1fr));
  align-items: start;
  &[inert] {
    opacity: 0.7;
  }
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

/** `needs`: the role that filling it in needs; those without it see what it holds. Without one: what is usual here. */
export const FormGrid = ({needs, ...props}: ComponentProps<typeof Root> & {needs?: Role}) => (
  <Root inert={!useMay(needs) || undefined} {...props} />
);
