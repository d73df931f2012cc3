/** A choice of one from a few, as a button that opens a list. */
import {Button, ListBox, ListBoxItem, Popover, Select, SelectValue, type Key} from 'react-aria-components';
import styled from 'styled-components';
import {colour, font, narrow, space} from './tokens';

const Trigger = styled(Button)`
  font: 14px ${font.sans};
  color: ${colour('ink')};
  background: none;
  border: 1px solid transparent;
  border-radius: 4px;
  padding: 4px ${space.s};
  cursor: pointer;
  white-space: nowrap;
  ${narrow} {
    padding: 4px;
  }
  &[data-hovered],
  &[data-pressed] {
    border-color: ${colour('line')};
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
}

export const Choice = ({label, value, options, onChange, shown}: ChoiceProps) => (
  <Select
    aria-label={label}
    selectedKey={value}
    onSelectionChange={(key: Key | null) => key != null && onChange(String(key))}
  >
    <Trigger>
      {shown ?? <SelectValue />} <span aria-hidden>▾</span>
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
  </Select>
);
