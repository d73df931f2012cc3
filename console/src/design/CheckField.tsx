/** A checkbox with its label. */
import {Checkbox, type CheckboxProps} from 'react-aria-components';
import styled from 'styled-components';
import {colour, space} from './tokens';

const Root = styled(Checkbox)`
  display: flex;
  gap: ${space.s};
  align-items: center;
  min-height: 33px;
  cursor: pointer;
  font-size: 13px;
  &[data-focus-visible] > span {
    outline: 2px solid ${colour('rust')};
    outline-offset: 2px;
  }
`;
const Box = styled.span`
  flex: none;
  display: grid;
  place-items: center;
  width: 16px;
  height: 16px;
  border: 1px solid ${colour('soft')};
  border-radius: 3px;
  background: ${colour('sheet')};
  color: ${colour('ink')};
`;

interface CheckFieldProps extends Omit<CheckboxProps, 'children'> {
  label: string;
  /** The label is for screen readers only, as in a table whose head says what it is. */
  hidden?: boolean;
}

export const CheckField = ({label, hidden, ...props}: CheckFieldProps) => (
  <Root {...props} aria-label={hidden ? label : undefined}>
    {({isSelected}) => (
      <>
        <Box>
          {isSelected && (
            <svg width="10" height="8" viewBox="0 0 10 8" aria-hidden>
              <path d="M1 4l3 3 5-6" fill="none" stroke="currentColor" strokeWidth="1.8" />
            </svg>
          )}
        </Box>
        {!hidden && label}
      </>
    )}
  </Root>
);
