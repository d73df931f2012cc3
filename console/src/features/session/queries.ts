/** Queries and changes of session. A key begins with the resource's name, so that a change refreshes all that shows it. */
import {queryOptions, useQuery} from '@tanstack/react-query';
import {api, unwrap} from '../../api/client';

export const sessionQuery = queryOptions({
  queryKey: ['session'],
  queryFn: ({signal}) => unwrap(api.GET('/api/v1/session', {signal})),
  retry: false,
  staleTime: Infinity,
});

export const useSession = () => useQuery(sessionQuery);
