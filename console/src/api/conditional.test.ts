import {afterEach, describe, expect, it, vi} from 'vitest';
import {conditionally} from './conditional';

describe('asking again', () => {
  afterEach(() => void vi.unstubAllGlobals());

  it('uses the answer that is held where nothing has changed', async () => {
    const sent: (string | null)[] = [];
    let value = 1;
    vi.stubGlobal('fetch', async (request: Request) => {
      const asked = request.headers.get('If-None-Match');
      sent.push(asked);
      const tag = `"${value}"`;
      if (asked === tag) return new Response(null, {status: 304, headers: {ETag: tag}});
      return Response.json({value}, {headers: {ETag: tag}});
    });
    const ask = async (url = 'http://gauge.test/api/v1/x') => (await conditionally(new Request(url))).json();
    expect([await ask(), await ask()]).toEqual([{value: 1}, {value: 1}]);
    value = 2;
    expect(await ask()).toEqual({value: 2});
    expect(await ask('http://gauge.test/api/v1/y')).toEqual({value: 2});
    expect(sent).toEqual([null, '"1"', '"1"', null]);
  });

  it('leaves changes alone', async () => {
    const seen: string[] = [];
    vi.stubGlobal('fetch', async (request: Request) => {
      seen.push(`${request.method} ${request.headers.get('If-None-Match')}`);
      return Response.json({}, {headers: {ETag: '"1"'}});
    });
    for (const method of ['POST', 'PUT']) await conditionally(new Request('http://gauge.test/x', {method, body: '{}'}));
    expect(seen).toEqual(['POST null', 'PUT null']);
  });
});
