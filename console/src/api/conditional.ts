/**
 * Asks again for what a page shows already only if it has changed: the newest answers are held with their tags. They
 * end with the page, which signing out loads again.
 */

const MOST = 80;
const held = new Map<string, {tag: string; text: string}>();

/** Send a request; where the service says that the answer has not changed, the one that is held stands in for it. */
export async function conditionally(request: Request): Promise<Response> {
  if (request.method !== 'GET') return fetch(request);
  const known = held.get(request.url);
  if (known) request.headers.set('If-None-Match', known.tag);
  const response = await fetch(request);
  if (response.status === 304 && known) {
    hold(request.url, known);
    const headers = new Headers(response.headers);
    headers.set('Content-Type', 'application/json');
    return new Response(known.text, {status: 200, headers});
  }
  const tag = response.headers.get('ETag');
  if (response.ok && tag) hold(request.url, {tag, text: await response.clone().text()});
  return response;
}

function hold(url: string, answer: {tag: string; text: string}) {
  held.delete(url); // the newest at the end
  held.set(url, answer);
  const oldest = held.keys().next().value;
  if (held.size > MOST && oldest !== undefined) held.delete(oldest);
}
