/** HTML source with line numbers; what some family of mail programs does not support is marked where it stands. */
import {useMemo, useState} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Small} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {Row, Stack} from '../../design/Stack';
import {colour, font} from '../../design/tokens';

const MOST_LINES = 4000;
const Source = styled.ol`
  margin: 0;
  padding: 0 0 0 52px;
  max-height: 560px;
  overflow: auto;
  font: 12px/1.5 ${font.mono};
  border: 1px solid ${colour('line')};
  li {
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    padding-left: 8px;
    border-left: 1px solid ${colour('line')};
  }
  li::marker {
    color: ${colour('soft')};
  }
  mark {
    background: none;
    color: inherit;
    border-bottom: 2px solid ${colour('tarnished')};
    cursor: help;
  }
  mark[data-level='no'] {
    border-bottom: 2px dotted ${colour('corroded')};
  }
`;

export interface Mark {
  line: number;
  from: number;
  to: number;
  level: 'no' | 'part';
  title: string;
}

/** Where in the source each construct stands that `family` (or any family) lacks; places outside of it are left out. */
export function marksOf(html: string, support: Schemas['HtmlSupport'], family: string): Mark[] {
  const lines = html.split('\n');
  const short = Object.fromEntries(support.families.map((each) => [each.key, each.short]));
  const marks: Mark[] = [];
  for (const each of support.constructs) {
    const lacking = Object.entries(each.support).filter(([key]) => !family || key === family);
    if (lacking.length === 0) continue;
    const level = lacking.some(([, how]) => how === 'no') ? 'no' : 'part';
    const who = lacking.map(([key, how]) => `${short[key] ?? key}${how === 'part' ? ' (partly)' : ''}`).join(', ');
    for (const place of each.places) {
      const line = lines[place.line - 1];
      if (line === undefined) continue;
      const shown = place.text.split('\n')[0]!.replace(/…$/, '');
      const asked = Math.max(0, place.column - 1);
      const from = line.startsWith(shown, asked) ? asked : Math.max(0, line.indexOf(shown));
      const found = shown !== '' && line.startsWith(shown, from);
      const to = found ? from + shown.length : (/^<?[\w:@.-]*/.exec(line.slice(from))?.[0].length ?? 1) + from;
      marks.push({
        line: place.line,
        from,
        to: Math.max(to, from + 1),
        level,
        title: `${each.title}: not supported by ${who}. ${each.instead}`,
      });
    }
  }
  return joined(marks.sort((a, b) => a.line - b.line || a.from - b.from || b.to - a.to));
}

/** Marks of one place are one mark that says all. */
function joined(marks: Mark[]): Mark[] {
  const out: Mark[] = [];
  for (const each of marks) {
    const last = out[out.length - 1];
    if (last && last.line === each.line && each.from < last.to) {
      if (!last.title.includes(each.title)) last.title += `\n${each.title}`;
      if (each.level === 'no') last.level = 'no';
    } else out.push({...each});
  }
  return out;
}

export function MarkedSource({html, support}: {html: string; support: Schemas['HtmlSupport'] | null}) {
  const [family, setFamily] = useState('');
  const marks = useMemo(() => (support ? marksOf(html, support, family) : []), [html, support, family]);
  const lines = html.split('\n');
  const byLine = grouped(marks);
  return (
    <Stack>
      <Row>
        {support && (
          <Choice
            label="Highlight for"
            value={family || 'all'}
            options={[
              {value: 'all', label: 'Any family of mail programs'},
              ...support.families.map((each) => ({value: each.key, label: each.title})),
            ]}
            onChange={(value) => setFamily(value === 'all' ? '' : value)}
          />
        )}
        <Small>
          {marks.length} places marked; point at one to see who lacks it and what to use instead
          {lines.length > MOST_LINES && `; the first ${MOST_LINES} of ${lines.length} lines`}
        </Small>
      </Row>
      <Source aria-label="HTML source" tabIndex={0}>
        {lines.slice(0, MOST_LINES).map((text, at) => (
          <li key={at}>{pieces(text.replace(/\r$/, ''), byLine.get(at + 1) ?? [])}</li>
        ))}
      </Source>
    </Stack>
  );
}

function grouped(marks: Mark[]): Map<number, Mark[]> {
  const found = new Map<number, Mark[]>();
  for (const each of marks) found.set(each.line, [...(found.get(each.line) ?? []), each]);
  return found;
}

function pieces(text: string, marks: Mark[]) {
  const out: React.ReactNode[] = [];
  let at = 0;
  for (const each of marks) {
    if (each.from < at) continue; // within one that is marked already
    out.push(text.slice(at, each.from));
    out.push(
      <mark key={each.from} data-level={each.level} title={each.title}>
        {text.slice(each.from, each.to)}
      </mark>,
    );
    at = each.to;
  }
  out.push(text.slice(at) || (out.length ? '' : ' '));
  return out;
}
