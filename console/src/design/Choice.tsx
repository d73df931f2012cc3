/** One of a few: a select that looks like the inputs beside it. */
import {Button, Label, ListBox, ListBoxItem, Popover, Select, SelectValue, type Key} from 'react-aria-components';
import styled from 'styled-components';
import {colour, font, narrow, space} from './tokens';

const Root = styled(Select)`
  display: grid;
  gap: ${space.xs};
  min-width: 0;
  .react-aria-Label {
    font-weight: 600;
    font-size: 12px;
  }
`;
const Trigger = styled(Button)`
  display: flex;
  gap: ${space.s};
  align-items: center;
  justify-content: space-between;
  min-width: 0;
  max-width: 100%;
  font: 14px/1.3 ${font.sans};
  color: ${colour('ink')};
  background: ${colour('sheet')};
  border: 1px solid ${colour('line')};
  border-radius: 4px;
  padding: 7px ${space.s};
  cursor: pointer;
  text-align: left;
  > :first-child {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  ${narrow} {
    padding: 5px 6px;
  }
  &[data-hovered],
  &[data-pressed] {
    border-color: ${colour('ink')};
  }
  &[data-focus-visible] {
    outline: 2px solid ${colour('rust')};
  }
`;
const List = styled(ListBox)`
  background: ${colour('sheet')};
  border: 1px solid ${colour('line')};
  border-radius: 4px;
  padding: 4px;
  max-height: 60vh;
  overflow: auto;
  box-shadow: 0 6px 20px rgb(0 0 0 / 18%);
  color: ${colour('ink')};
  font: 14px ${font.sans};
  outline: none;
`;
const Item = styled(ListBoxItem)`
  padding: 5px 10px;
  border-radius: 3px;
  cursor: pointer;
  outline: none;
  &[data-focused] {
    background: ${colour('line')};
  }
  &[data-selected] {
    font-weight: 600;
  }
`;

interface ChoiceProps {
  label: string;
  value: string;
  options: {value: string; label: string}[];
  onChange: (value: string) => void;
  /** What the button shows instead of the chosen option. */
  shown?: string;
  /** In a form: with its label above, as an input has it. */
  field?: boolean;
}

/** What is read out has what is seen, so that it can be spoken to (WCAG 2.5.3). */
const nameOf = (label: string, shown = '') => (label.includes(shown) ? label : `${shown}: ${label}`);

export const Choice = ({label, value, options, onChange, shown, field}: ChoiceProps) => (
  <Root
    aria-label={field ? undefined : nameOf(label, shown)}
    selectedKey={value}
    onSelectionChange={(key: Key | null) => key != null && onChange(String(key))}
  >
    {field && <Label>{label}</Label>}
    <Trigger>
      {shown ? <span>{shown}</span> : <SelectValue />}
      <svg width="9" height="6" viewBox="0 0 9 6" aria-hidden style={{flex: 'none'}}>
        <path d="M1 1l3.5 3.5L8 1" fill="none" stroke="currentColor" strokeWidth="1.4" />
      </svg>
    </Trigger>
    <Popover>
      <List>
        {options.map((option) => (
          <Item key={option.value} id={option.value} textValue={option.label}>
            {option.label}
          </Item>
        ))}
      </List>
    </Popover>
  </Root>
);
