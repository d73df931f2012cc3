/** Whose mail is: the words, the marks and the colours of the four verdicts. Each has its own mark, not only a colour. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {colour, type Colour} from '../../design/tokens';

export type Verdict = Schemas['Source']['verdict'];
export type Mail = Schemas['SourceMail'];
export const VERDICTS: Verdict[] = ['ours', 'unknown', 'forwarded', 'not_ours'];
export const WORDS: Record<Verdict, string> = {
  ours: 'Ours',
  unknown: 'Unknown',
  forwarded: 'Forwarded',
  not_ours: 'Not ours',
};
const COLOURS: Record<Verdict, Colour> = {ours: 'sound', unknown: 'tarnished', forwarded: 'soft', not_ours: 'corroded'};
const MARKS: Record<Verdict, string> = {
  ours: 'M2 2h8v8H2z',
  unknown: 'M6 1l5 5-5 5-5-5z',
  forwarded: 'M1 4h6V1l4 5-4 5V8H1z',
  not_ours: 'M2 1l4 4 4-4 1 1-4 4 4 4-1 1-4-4-4 4-1-1 4-4-4-4z',
};
const Name = styled.span`
  display: inline-flex;
  gap: 6px;
  align-items: center;
  white-space: nowrap;
`;

export const VerdictMark = ({verdict}: {verdict: Verdict}) => (
  <Name>
    <svg width="12" height="12" aria-hidden>
      <path d={MARKS[verdict]} fill={colour(COLOURS[verdict])} />
    </svg>
    <span data-chart-text>{WORDS[verdict]}</span>
  </Name>
);

export const aligned = (mail: Mail): number => mail.messages - mail.neither;
export const share = (part: number, whole: number): string => (whole ? `${((100 * part) / whole).toFixed(1)} %` : '–');
