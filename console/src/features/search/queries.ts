/** Queries of search. */
import {queryOptions, useQuery} from '@tanstack/react-query';
import {api, unwrap} from '../../api/client';

const searchQuery = (text: string) =>
  queryOptions({
    queryKey: ['search', text],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/search', {params: {query: {text, each: 5}}, signal})),
    enabled: text.trim().length > 1,
    placeholderData: (before) => before,
  });

export const useSearch = (text: string) => useQuery(searchQuery(text));

const docsQuery = queryOptions({
  queryKey: ['docs'],
  queryFn: () => import('../docs/docs'),
  staleTime: Infinity,
});

/** The search of the documentation, which is loaded when it is first needed. */
export const useDocs = () => useQuery(docsQuery);
