import type {ReactNode} from 'react';
import styled from 'styled-components';
import {colour, space} from './tokens';

const Root = styled.section`
  background: ${colour('sheet')};
  border: 1px solid ${colour('line')};
  padding: ${space.m} 14px;
  min-width: 0;
`;
const Head = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 2px ${space.s};
  align-items: baseline;
  margin-bottom: ${space.s};
  > span {
    color: ${colour('soft')};
    flex: 1;
    min-width: 12ch;
    overflow-wrap: anywhere;
  }
  @media (max-width: 560px) {
    > span {
      order: 1;
      flex-basis: 100%;
    }
  }
`;

export const Card = ({
  title,
  note,
  actions,
  children,
}: {
  title: string;
  note?: ReactNode;
  actions?: ReactNode;
  children: ReactNode;
}) => (
  <Root aria-label={title}>
    <Head>
      <h2>{title}</h2>
      <span>{note}</span>
      {actions}
    </Head>
    {children}
  </Root>
);

export const Soft = styled.span`
  color: ${colour('soft')};
`;
export const Small = styled.small`
  color: ${colour('soft')};
  font-size: 12px;
  font-weight: 400;
`;

const levels = {fault: 'seized', risk: 'tarnished', note: 'soft', right: 'sound'} as const;
const TagRoot = styled.span<{$level: keyof typeof levels}>`
  font-weight: 600;
  font-size: 11px;
  padding: 1px 7px;
  border-radius: 3px;
  border: 1px solid currentColor;
  color: ${({$level}) => colour(levels[$level])};
  white-space: nowrap;
`;
export const Tag = ({level, children}: {level: keyof typeof levels; children: ReactNode}) => (
  <TagRoot $level={level}>{children}</TagRoot>
);
