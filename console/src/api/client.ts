/** The service as the console sees it: typed by the OpenAPI document, problems as errors. */
import createClient from 'openapi-fetch';
import type {components, paths} from './schema';
import {conditionally} from './conditional';
import {noteViews} from './views';

export type Schemas = components['schemas'];
export type Problem = Schemas['Problem'];

export const api = createClient<paths>({
  baseUrl: window.location.origin,
  fetch: async (request: Request) => {
    const response = await conditionally(request);
    noteViews(response.headers.get('Views-From'));
    return response;
  },
});

/** The service said no; `problem` is its RFC 9457 document. */
export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail || problem.title);
  }
}

/** The data of a response, or a ProblemError. */
export async function unwrap<T>(call: Promise<{data?: T; error?: unknown; response: Response}>): Promise<T> {
  const {data, error, response} = await call;
  if (response.ok) return data as T;
  const known = error && typeof error === 'object' && 'title' in error ? (error as Problem) : undefined;
  throw new ProblemError(
    known ?? {
      type: 'about:blank',
      title: 'No usable answer',
      status: response.status,
      detail: `The service answered ${response.status} without saying why`,
      remedy: 'Try again in a moment',
      instance: '',
      errors: [],
      errors_total: 0,
    },
  );
}

/** The items of a list that comes in one page. */
export const unwrapItems = async <T>(call: Promise<{data?: {items: T[]}; error?: unknown; response: Response}>) =>
  (await unwrap(call)).items;
