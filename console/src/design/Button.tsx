import {Button as AriaButton, type ButtonProps as AriaProps} from 'react-aria-components';
import {Link} from 'react-router';
import styled from 'styled-components';
import {useMay, type Role} from './may';
import {colour, font, space} from './tokens';

type Tone = 'plain' | 'main' | 'danger' | 'link';
const filled: Partial<Record<Tone, string>> = {main: colour('ink'), danger: colour('seized')};
export interface ButtonProps extends AriaProps {
  tone?: Tone;
  /** It changes something: only those who may do that see it. Main, danger and submit buttons do so anyway. */
  changes?: boolean;
  /** The role that it needs, where that is not what is usual here (`Needs`). */
  needs?: Role;
}

const Root = styled(AriaButton)<{$tone: Tone}>`
  font: 600 12px ${font.sans};
  padding: ${({$tone}) => ($tone === 'link' ? '0' : `5px ${space.m}`)};
  border: ${({$tone}) => ($tone === 'link' ? '0' : `1px solid ${filled[$tone] ?? colour('line')}`)};
  border-radius: 4px;
  background: ${({$tone}) => filled[$tone] ?? 'none'};
  color: ${({$tone}) => (filled[$tone] ? colour('sheet') : colour('ink'))};
  text-decoration: ${({$tone}) => ($tone === 'link' ? 'underline' : 'none')};
  cursor: pointer;
  white-space: nowrap;
  &[data-hovered] {
    border-color: ${colour('ink')};
  }
  &[data-disabled] {
    opacity: 0.5;
    cursor: default;
  }
  &[data-focus-visible] {
    outline: 2px solid ${colour('rust')};
    outline-offset: 2px;
  }
`;

export function Button({tone = 'plain', changes, needs, ...props}: ButtonProps) {
  const restricted = changes || tone === 'main' || tone === 'danger' || props.type === 'submit';
  const may = useMay(needs ?? (restricted ? undefined : 'viewer'));
  return may ? <Root $tone={tone} {...props} /> : null;
}

const GoRoot = styled(Link)`
  font: 600 12px ${font.sans};
  padding: 5px ${space.m};
  border: 1px solid ${colour('ink')};
  border-radius: 4px;
  background: ${colour('ink')};
  color: ${colour('sheet')};
  text-decoration: none;
  white-space: nowrap;
`;

/** A link that looks like the main button: what to do next is on another page. Only for those who may do it. */
export function Go({to, needs, children}: {to: string; needs?: Role; children: string}) {
  return useMay(needs) ? <GoRoot to={to}>{children}</GoRoot> : null;
}
