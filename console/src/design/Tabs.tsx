/** Views of one thing, one at a time; which one is in the address. */
import {Tab, TabList, TabPanel, Tabs as AriaTabs} from 'react-aria-components';
import styled from 'styled-components';
import {colour, space} from './tokens';

const List = styled(TabList)`
  display: flex;
  gap: ${space.l};
  overflow-x: auto;
  border-bottom: 1px solid ${colour('line')};
  margin-bottom: ${space.l};
`;
const One = styled(Tab)`
  padding: 4px 0 8px;
  color: ${colour('soft')};
  cursor: pointer;
  white-space: nowrap;
  outline: none;
  border-bottom: 2px solid transparent;
  &[data-hovered] {
    color: ${colour('ink')};
  }
  &[data-selected] {
    color: ${colour('ink')};
    font-weight: 600;
    border-color: ${colour('rust')};
  }
  &[data-focus-visible] {
    outline: 2px solid ${colour('rust')};
  }
`;
const Panel = styled(TabPanel)`
  outline: none;
`;

interface TabsProps {
  label: string;
  value: string;
  onChange: (value: string) => void;
  tabs: {id: string; title: React.ReactNode; content: () => React.ReactNode}[];
}

export const Tabs = ({label, value, onChange, tabs}: TabsProps) => (
  <AriaTabs selectedKey={value} onSelectionChange={(key) => onChange(String(key))}>
    <List aria-label={label}>
      {tabs.map((tab) => (
        <One key={tab.id} id={tab.id}>
          {tab.title}
        </One>
      ))}
    </List>
    {tabs.map((tab) => (
      <Panel key={tab.id} id={tab.id}>
        {tab.id === value && tab.content()}
      </Panel>
    ))}
  </AriaTabs>
);
