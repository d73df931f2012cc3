/** For tests of pages: the real queries and routes over a service whose answers stand in a table. */
import {QueryClient, QueryClientProvider} from '@tanstack/react-query';
import {configure, render, waitFor} from '@testing-library/react';
import type {ReactNode} from 'react';
import {MemoryRouter, Route, Routes} from 'react-router';
import {vi} from 'vitest';
import type {Schemas} from './api/client';

// The usual second is too short on a busy machine; a test that passes does not wait for it.
configure({asyncUtilTimeout: 10_000});

export interface Sent {
  method: string;
  path: string;
  query: URLSearchParams;
  body: unknown;
}
type Answer = unknown | ((sent: Sent) => unknown);

export const problem = (status: number, title: string, more: Partial<Schemas['Problem']> = {}) =>
  new Response(
    JSON.stringify({
      type: 'x',
      title,
      status,
      detail: '',
      remedy: '',
      instance: '',
      errors: [],
      errors_total: 0,
      ...more,
    }),
    {status, headers: {'Content-Type': 'application/problem+json'}},
  );

/** A list that comes in one page. */
export const onePage = <T,>(items: T[]) => ({items, next: null});

/** What jsdom lacks and pages with charts and menus ask for. */
export function withBrowserParts() {
  vi.stubGlobal('CSS', {escape: (text: string) => text});
  vi.stubGlobal(
    'ResizeObserver',
    class {
      observe() {}
      unobserve() {}
      disconnect() {}
    },
  );
}

/** A body as JSON, or as the text that it is. */
function parsed(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return text;
  }
}

/** Answers by "METHOD /path"; returns the requests that came. What is not in the table is 404. */
export function serviceWith(answers: Record<string, Answer>): Sent[] {
  const seen: Sent[] = [];
  vi.stubGlobal('fetch', async (request: Request) => {
    const url = new URL(request.url);
    const text = await request.text();
    const sent = {
      method: request.method,
      path: url.pathname,
      query: url.searchParams,
      body: text ? parsed(text) : null,
    };
    seen.push(sent);
    const answer = answers[`${request.method} ${url.pathname}`];
    if (answer === undefined) return problem(404, 'Not found');
    const value = typeof answer === 'function' ? (answer as (sent: Sent) => unknown)(sent) : answer;
    return value instanceof Response ? value.clone() : Response.json(value);
  });
  return seen;
}

/** The first request "METHOD /path" of those that came, awaited: in which order a page asks is its own affair. */
export const requestTo = (seen: Sent[], call: string): Promise<Sent> =>
  waitFor(() => {
    const found = seen.find((each) => `${each.method} ${each.path}` === call);
    if (!found)
      throw new Error(`no ${call}; there were: ${seen.map((each) => `${each.method} ${each.path}`).join(', ')}`);
    return found;
  });

/** A page at an address, with a route pattern where it has parameters. */
export function open(page: ReactNode, at = '/', pattern = '*') {
  const queries = new QueryClient({defaultOptions: {queries: {retry: false}}});
  return render(
    <QueryClientProvider client={queries}>
      <MemoryRouter initialEntries={[at]}>
        <Routes>
          <Route path={pattern} element={page} />
        </Routes>
      </MemoryRouter>
    </QueryClientProvider>,
  );
}

export const who: Schemas['Who'] = {
  name: 'Isla Mackay',
  email: 'isla@skerry.example',
  tenants: [{slug: 'copperline', name: 'Copperline Tram Museum', role: 'admin'}],
  locked: [],
  is_owner: true,
  second_factor: false,
};
