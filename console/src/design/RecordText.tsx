/** A record whole and in monospace, with the wrong characters marked in place. */
import styled from 'styled-components';
import {colour, font} from './tokens';

export interface Mark {
  column: number;
  length: number;
  level: 'fault' | 'risk' | 'note';
}

const Code = styled.code`
  display: block;
  font: 12px/1.55 ${font.mono};
  background: ${colour('paper')};
  border: 1px solid ${colour('line')};
  padding: 6px 8px;
  overflow-wrap: anywhere;
  white-space: pre-wrap;
  mark {
    color: inherit;
    background: color-mix(in srgb, ${colour('corroded')} 26%, transparent);
    border-bottom: 2px solid ${colour('corroded')};
  }
  mark[data-level='risk'] {
    background: color-mix(in srgb, ${colour('tarnished')} 24%, transparent);
    border-color: ${colour('tarnished')};
  }
`;

interface Piece {
  text: string;
  level?: Mark['level'];
}

/** The text cut at its marks; columns count from 1, marks that overlap are cut short. */
export function pieces(text: string, marks: Mark[]): Piece[] {
  const out: Piece[] = [];
  let at = 0;
  for (const mark of [...marks].sort((a, b) => a.column - b.column)) {
    const start = Math.max(at, mark.column - 1);
    const end = Math.min(text.length, mark.column - 1 + Math.max(1, mark.length));
    if (mark.column < 1 || start >= end) continue;
    if (start > at) out.push({text: text.slice(at, start)});
    out.push({text: text.slice(start, end), level: mark.level});
    at = end;
  }
  if (at < text.length) out.push({text: text.slice(at)});
  return out;
}

export const RecordText = ({text, marks = []}: {text: string; marks?: Mark[]}) => (
  <Code>
    {pieces(text, marks).map((piece, i) =>
      piece.level ? (
        <mark key={i} data-level={piece.level}>
          {piece.text}
        </mark>
      ) : (
        <span key={i}>{piece.text}</span>
      ),
    )}
  </Code>
);
