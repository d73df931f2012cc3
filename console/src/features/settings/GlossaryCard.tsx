/** The terms of Rust Gauge, from docs/glossary.md, so that both say the same. */
import styled from 'styled-components';
import glossary from '../../../../docs/glossary.md?raw';
import {Card} from '../../design/Card';
import {space} from '../../design/tokens';

const List = styled.dl`
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(min(420px, 100%), 1fr));
  gap: ${space.s} ${space.xl};
  margin: 0;
  dt {
    font-weight: 600;
  }
  dd {
    margin: 0;
  }
`;
const terms = [...glossary.matchAll(/^- \*\*(.+?)\*\*: (.+)$/gm)].map(([, term, meaning]) => ({term, meaning}));

export const GlossaryCard = () => (
  <Card title="Glossary" note="the terms that Rust Gauge uses in its own sense">
    <List>
      {terms.map(({term, meaning}) => (
        <div key={term}>
          <dt>{term}</dt>
          <dd>{meaning}</dd>
        </div>
      ))}
    </List>
  </Card>
);
