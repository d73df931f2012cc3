/** A file as pieces that fit into a request each. The same file is always cut into the same pieces, so an upload can go on. */
const BLOCK = 1024 * 1024;
const ROWS = 5_000;
const CHARACTERS = 4 * 1024 * 1024;

export interface Piece {
  body: string;
  /** How much of the file has been read, 0 to 1. */
  share: number;
}

export const typeOf = (name: string, kind: string): string =>
  /\.csv$/i.test(name)
    ? 'text/csv'
    : /\.eml$/i.test(name)
      ? 'message/rfc822'
      : /\.mbox$/i.test(name)
        ? 'application/mbox'
        : kind === 'log' || (kind === 'http' && /\.(log|txt)$/i.test(name))
          ? 'text/plain'
          : 'application/x-ndjson';

/** Pieces of whole rows; CSV has its head in each, and quoted line breaks stay within a row. Messages are one piece. */
export async function* piecesOf(file: Blob, type: string, rows = ROWS): AsyncGenerator<Piece> {
  if (type === 'message/rfc822' || type === 'application/mbox') {
    yield {body: await file.text(), share: 1};
    return;
  }
  const csv = type === 'text/csv';
  let head = '';
  let lines: string[] = [];
  let size = 0;
  let quotes = 0; // an odd number: a quoted field goes on
  for await (const {line, share} of linesOf(file)) {
    if (csv && !head) {
      head = line;
      continue;
    }
    lines.push(line);
    size += line.length;
    if (csv) quotes += line.split('"').length - 1;
    const full = lines.length >= rows || size >= CHARACTERS;
    if (full && (quotes % 2 === 0 || lines.length >= 2 * rows)) {
      yield {body: head + lines.join(''), share};
      [lines, size, quotes] = [[], 0, 0];
    }
  }
  if (lines.length) yield {body: head + lines.join(''), share: 1};
}

/** Lines with their ends. TypeError where the file is not UTF-8. */
async function* linesOf(file: Blob): AsyncGenerator<{line: string; share: number}> {
  const decoder = new TextDecoder('utf-8', {fatal: true});
  let rest = '';
  for (let at = 0; at < file.size; at += BLOCK) {
    rest += decoder.decode(await file.slice(at, at + BLOCK).arrayBuffer(), {stream: true});
    const share = Math.min(1, (at + BLOCK) / file.size);
    let start = 0;
    for (let end = rest.indexOf('\n'); end >= 0; end = rest.indexOf('\n', start)) {
      yield {line: rest.slice(start, end + 1), share};
      start = end + 1;
    }
    rest = rest.slice(start);
  }
  rest += decoder.decode();
  if (rest) yield {line: rest, share: 1};
}
