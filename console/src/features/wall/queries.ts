/** Queries and changes of wall. A key begins with the resource's name, so that a change refreshes all that shows it. */
import {queryOptions, useQuery} from '@tanstack/react-query';
import {api, unwrap} from '../../api/client';
import {type Subject} from '../readings/queries';

const wallQuery = (days: number, tenant?: string, subject: Subject = 'domain', last = '') =>
  queryOptions({
    queryKey: ['wall', days, tenant ?? '', subject, last],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/wall', {params: {query: {days, tenant, subject, last: last || undefined}}, signal})),
    refetchInterval: 60_000,
  });

export const useWall = (days: number, tenant?: string, subject: Subject = 'domain', last = '') =>
  useQuery(wallQuery(days, tenant, subject, last));
