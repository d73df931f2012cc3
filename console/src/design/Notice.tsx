/** What a page shows without data: the shape of what is loading, a problem with its remedy, or an empty state with a next step. */
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
  b,
  h1 {
    color: ${colour('ink')};
    font-weight: 600;
    font-size: inherit;
  }
`;

/** `page`: it is all that the page shows, and its title that of the page. */
export const Notice = ({title, page, children}: {title: string; page?: boolean; children?: ReactNode}) => (
  <Root role="status">
    {page ? <h1>{title}</h1> : <b>{title}</b>}
    {children}
  </Root>
);

export function Trouble({error, again}: {error: unknown; again?: () => void}) {
  const problem = error instanceof ProblemError ? error.problem : undefined;
  return (
    <Root role="alert">
      <b>{problem?.title ?? 'The service is not responding'}</b>
      <span>{problem?.detail || (problem ? '' : 'Check that it is running and that you are online.')}</span>
      {problem?.remedy && <span>{problem.remedy}</span>}
      {problem?.errors.map((each, i) => (
        <span key={i}>{[each.field, each.what].filter(Boolean).join(': ')}</span>
      ))}
      {again && <Button onPress={again}>Try again</Button>}
    </Root>
  );
}

const Bone = styled.div`
  height: 14px;
  border-radius: 3px;
  background: ${colour('line')};
  opacity: 0.6;
`;
const Skeleton = styled.div`
  display: grid;
  gap: ${space.m};
  padding: ${space.m} 0;
  > span {
    position: absolute;
    clip-path: inset(50%);
    width: 1px;
    height: 1px;
    overflow: hidden;
    white-space: nowrap;
  }
`;

/** The shape of what will come: a heading and some rows. Screen readers hear what is being loaded. */
export const Loading = ({what, rows = 4}: {what: string; rows?: number}) => (
  <Skeleton role="status" aria-busy>
    <span>Loading {what} …</span>
    <Bone style={{width: '28%', height: 18}} />
    {Array.from({length: rows}, (_, i) => (
      <Bone key={i} style={{width: `${92 - ((i * 17) % 30)}%`}} />
    ))}
  </Skeleton>
);
