/** How far the sending limits of a relay are used. */
import {queryOptions} from '@tanstack/react-query';
import {api, unwrap} from '../../api/client';

export const PER = {second: 'a second', hour: 'an hour', day: 'a day'} as const;
const EVERY = 60_000; // milliseconds

export const usageQuery = (tenant: string, relay: string) =>
  queryOptions({
    queryKey: ['relay usage', tenant, relay],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/relays/{relay}/usage', {params: {path: {tenant, relay}}, signal})),
    refetchInterval: EVERY,
  });
