/** What a number is: how it is computed, from what, over which period, and where the events behind it are. */
import {DialogTrigger, Popover, Button as AriaButton} from 'react-aria-components';
import {Link} from 'react-router';
import styled from 'styled-components';
import {colour, font, space} from './tokens';

const Sign = styled(AriaButton)`
  font: 600 10px ${font.sans};
  width: 15px;
  height: 15px;
  padding: 0;
  margin-left: 4px;
  border: 1px solid ${colour('line')};
  border-radius: 50%;
  background: none;
  color: ${colour('soft')};
  cursor: pointer;
  vertical-align: 1px;
  &[data-hovered] {
    border-color: ${colour('ink')};
    color: ${colour('ink')};
  }
  &[data-focus-visible] {
    outline: 2px solid ${colour('rust')};
    outline-offset: 1px;
  }
  @media print {
    display: none;
  }
`;
const Panel = styled(Popover)`
  max-width: min(380px, 92vw);
  background: ${colour('sheet')};
  color: ${colour('ink')};
  border: 1px solid ${colour('line')};
  border-radius: 4px;
  box-shadow: 0 6px 20px rgb(0 0 0 / 18%);
  padding: ${space.m};
  outline: none;
  font: 13px/1.5 ${font.sans};
  dl {
    display: grid;
    grid-template-columns: max-content minmax(0, 1fr);
    gap: 4px ${space.m};
    margin: 6px 0 0;
  }
  dt {
    color: ${colour('soft')};
  }
  dd {
    margin: 0;
  }
`;

export interface Meaning {
  /** How it is computed. */
  formula: string;
  /** What it is computed from. */
  source: string;
  /** Which days or hours. */
  period: string;
  /** Where the events or records behind it are. */
  events?: {to: string; label: string};
}

export const About = ({of, meaning}: {of: string; meaning: Meaning}) => (
  <DialogTrigger>
    <Sign aria-label={`About ${of}`}>?</Sign>
    <Panel>
      <b>{of}</b>
      <dl>
        <dt>Formula</dt>
        <dd>{meaning.formula}</dd>
        <dt>Source</dt>
        <dd>{meaning.source}</dd>
        <dt>Period</dt>
        <dd>{meaning.period}</dd>
        {meaning.events && (
          <>
            <dt>Behind it</dt>
            <dd>
              <Link to={meaning.events.to}>{meaning.events.label}</Link>
            </dd>
          </>
        )}
      </dl>
    </Panel>
  </DialogTrigger>
);
