/** Queries by resource. A key begins with the resource's name, so that a change can refresh all that shows it. */
import {queryOptions, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap} from './client';

export const sessionQuery = queryOptions({
  queryKey: ['session'],
  queryFn: ({signal}) => unwrap(api.GET('/api/v1/session', {signal})),
  retry: false,
  staleTime: Infinity,
});
export const useSession = () => useQuery(sessionQuery);

export const wallQuery = (days: number, tenant?: string) =>
  queryOptions({
    queryKey: ['wall', days, tenant ?? ''],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/wall', {params: {query: {days, tenant}}, signal})),
    refetchInterval: 60_000,
  });
export const useWall = (days: number, tenant?: string) => useQuery(wallQuery(days, tenant));

export const useDomains = (tenant: string) =>
  useQuery({
    queryKey: ['domains', tenant],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/domains', {params: {path: {tenant}, query: {limit: 1000}}, signal}),
      ),
  });

export const useNewestAudit = (tenant: string, name: string) =>
  useQuery({
    queryKey: ['audit', tenant, name],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/domains/{name}/audits/newest', {params: {path: {tenant, name}}, signal}),
      ),
    retry: false,
  });

export const useReadings = (tenant: string, name: string, provider: string, first: string) =>
  useQuery({
    queryKey: ['readings', tenant, name, provider, first],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/domains/{name}/readings', {
          params: {path: {tenant, name}, query: {provider, first}},
          signal,
        }),
      ),
    placeholderData: (previous) => previous,
  });

export const useFlow = (tenant: string, first: string, domain?: string) =>
  useQuery({
    queryKey: ['flow', tenant, first, domain ?? ''],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/flow', {params: {path: {tenant}, query: {domain, first}}, signal})),
    placeholderData: (previous) => previous,
  });

export const useSuppression = (tenant: string, address: string) =>
  useQuery({
    queryKey: ['suppression', tenant, address],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/suppression', {
          params: {path: {tenant}, query: {limit: 200, address: address || undefined}},
          signal,
        }),
      ),
    retry: false,
    placeholderData: (previous) => previous,
  });

export function useAudit(tenant: string, name: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/domains/{name}/audits', {params: {path: {tenant, name}}})),
    onSuccess: (audit) => {
      queries.setQueryData(['audit', tenant, name], audit);
      void queries.invalidateQueries({queryKey: ['wall']});
      void queries.invalidateQueries({queryKey: ['domains', tenant]});
    },
  });
}

export function useAddDomain(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: {name: string; selectors: string[]}) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/domains', {params: {path: {tenant}}, body})),
    onSuccess: () => {
      void queries.invalidateQueries({queryKey: ['domains', tenant]});
      void queries.invalidateQueries({queryKey: ['wall']});
    },
  });
}

export const useClearance = (tenant: string) =>
  useMutation({
    mutationFn: (addresses: string[]) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/clearance', {params: {path: {tenant}}, body: {addresses}})),
  });
