/** What is said when there is nothing to show: work going on, a problem with its remedy, or emptiness with a next step. */
import type {ReactNode} from 'react';
import styled from 'styled-components';
import {ProblemError} from '../api/client';
import {Button} from './Button';
import {colour, space} from './tokens';

const Root = styled.div`
  display: grid;
  gap: ${space.s};
  justify-items: start;
  padding: ${space.l};
  border: 1px dashed ${colour('line')};
  color: ${colour('soft')};
  b {
    color: ${colour('ink')};
    font-weight: 600;
  }
`;

export const Notice = ({title, children}: {title: string; children?: ReactNode}) => (
  <Root role="status">
    <b>{title}</b>
    {children}
  </Root>
);

export function Trouble({error, again}: {error: unknown; again?: () => void}) {
  const problem = error instanceof ProblemError ? error.problem : undefined;
  return (
    <Root role="alert">
      <b>{problem?.title ?? 'The service does not answer'}</b>
      <span>{problem?.detail || (problem ? '' : 'Is it running, and is the network there?')}</span>
      {problem?.remedy && <span>{problem.remedy}</span>}
      {problem?.errors.map((each, i) => (
        <span key={i}>{[each.field, each.what].filter(Boolean).join(': ')}</span>
      ))}
      {again && <Button onPress={again}>Try again</Button>}
    </Root>
  );
}

export const Loading = ({what}: {what: string}) => (
  <Root role="status" aria-busy>
    <span>Fetching {what} …</span>
  </Root>
);
