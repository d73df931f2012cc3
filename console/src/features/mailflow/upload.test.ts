// @vitest-environment node
import {describe, expect, it} from 'vitest';
import {piecesOf, typeOf} from './upload';

const all = async (text: BlobPart, type: string, rows: number) => {
  const out = [];
  for await (const piece of piecesOf(new Blob([text]), type, rows)) out.push(piece);
  return out;
};

describe('a file in pieces', () => {
  it('is whole when they are put together', async () => {
    const pieces = await all('1\n2\n3\n4\n5', 'application/x-ndjson', 2);
    expect(pieces.map((each) => each.body)).toEqual(['1\n2\n', '3\n4\n', '5']);
    expect(pieces.at(-1)!.share).toBe(1);
    expect(await all('', 'application/x-ndjson', 2)).toEqual([]);
  });

  it('has the head of CSV in each, and keeps quoted line breaks together', async () => {
    const pieces = await all('a,b\n1,"x\ny\nz"\n2,x\n3,x\n', 'text/csv', 2);
    expect(pieces.map((each) => each.body)).toEqual(['a,b\n1,"x\ny\nz"\n', 'a,b\n2,x\n3,x\n']);
  });

  it('is one piece when it is mail', async () => {
    expect((await all('From x\n\nFrom y\n', 'application/mbox', 1)).length).toBe(1);
  });

  it('goes by its name, and has to be UTF-8', async () => {
    expect([
      typeOf('a.CSV', 'http'),
      typeOf('b.eml', 'mail'),
      typeOf('mail.log', 'log'),
      typeOf('mail.LOG', 'http'),
      typeOf('x.json', 'http'),
    ]).toEqual(['text/csv', 'message/rfc822', 'text/plain', 'text/plain', 'application/x-ndjson']);
    await expect(all(new Uint8Array([0x7b, 0xff, 0x0a]), 'application/x-ndjson', 2)).rejects.toThrow(TypeError);
  });
});
