/** Queries and changes of recordplan. A key begins with the resource's name, so that a change refreshes all that shows it. */
import {queryOptions, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, type Schemas, unwrapItems} from '../../api/client';

const relaysQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['relays', tenant],
    queryFn: ({signal}) => unwrapItems(api.GET('/api/v1/tenants/{tenant}/relays', {params: {path: {tenant}}, signal})),
  });
export const useRelays = (tenant: string) => useQuery(relaysQuery(tenant));

export function useDescribeRelay(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({relay, body}: {relay: string; body: Schemas['RelayDescription']}) =>
      unwrap(api.PUT('/api/v1/tenants/{tenant}/relays/{relay}', {params: {path: {tenant, relay}}, body})),
    onSuccess: () => {
      void queries.invalidateQueries({queryKey: ['relays', tenant]});
      void queries.invalidateQueries({queryKey: ['plan', tenant]});
    },
  });
}

/** The plan beside what is published now: looking is what the page is for. */
const planQuery = (tenant: string, name: string) =>
  queryOptions({
    queryKey: ['plan', tenant, name],
    queryFn: ({signal}) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/domains/{name}/plan/checks', {params: {path: {tenant, name}}, signal})),
    placeholderData: (previous) => previous,
  });
export const usePlan = (tenant: string, name: string) => useQuery(planQuery(tenant, name));

export function usePlanSettings(tenant: string, name: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['PlanSettings']) =>
      unwrap(api.PUT('/api/v1/tenants/{tenant}/domains/{name}/plan/settings', {params: {path: {tenant, name}}, body})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['plan', tenant, name]}),
  });
}

export function useMakeKey(tenant: string, name: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['NewKey']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/domains/{name}/plan/keys', {params: {path: {tenant, name}}, body})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['plan', tenant, name]}),
  });
}

const watchesQuery = (tenant: string, name: string) =>
  queryOptions({
    queryKey: ['watches', tenant, name],
    queryFn: ({signal}) =>
      unwrapItems(api.GET('/api/v1/tenants/{tenant}/domains/{name}/watches', {params: {path: {tenant, name}}, signal})),
    refetchInterval: (query) => (query.state.data?.[0]?.state === 'running' ? 3000 : false),
  });
export const useWatches = (tenant: string, name: string) => useQuery(watchesQuery(tenant, name));

export function useWatchAction(tenant: string, name: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({id, what}: {id?: number; what: 'start' | 'stop' | 'investigate'}) =>
      id == null
        ? unwrap(
            api.POST('/api/v1/tenants/{tenant}/domains/{name}/watches', {
              params: {path: {tenant, name}},
              body: {keys: [], hours: 48},
            }),
          )
        : what === 'stop'
          ? unwrap(api.POST('/api/v1/tenants/{tenant}/watches/{id}/cancel', {params: {path: {tenant, id}}}))
          : unwrap(api.POST('/api/v1/tenants/{tenant}/watches/{id}/recheck', {params: {path: {tenant, id}}})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['watches', tenant, name]}),
  });
}

const proofsQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['proofs', tenant],
    queryFn: ({signal}) => unwrapItems(api.GET('/api/v1/tenants/{tenant}/proofs', {params: {path: {tenant}}, signal})),
  });
export const useProofs = (tenant: string) => useQuery(proofsQuery(tenant));

const sendersQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['proofs', tenant, 'senders'],
    queryFn: ({signal}) => unwrapItems(api.GET('/api/v1/tenants/{tenant}/senders', {params: {path: {tenant}}, signal})),
  });
export const useSenders = (tenant: string) => useQuery(sendersQuery(tenant));

type ProofAction = {start: Schemas['NewProof']} | {check: number} | {id: number; code: string};

export function useProofAction(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (what: ProofAction) =>
      'start' in what
        ? unwrap(api.POST('/api/v1/tenants/{tenant}/proofs', {params: {path: {tenant}}, body: what.start}))
        : 'check' in what
          ? unwrap(api.POST('/api/v1/tenants/{tenant}/proofs/{id}/recheck', {params: {path: {tenant, id: what.check}}}))
          : unwrap(
              api.POST('/api/v1/tenants/{tenant}/proofs/{id}/code', {
                params: {path: {tenant, id: what.id}},
                body: {code: what.code},
              }),
            ),
    onSettled: () => {
      void queries.invalidateQueries({queryKey: ['proofs', tenant]});
      void queries.invalidateQueries({queryKey: ['plan', tenant]});
    },
  });
}

const updateServersQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['update-servers', tenant],
    queryFn: ({signal}) =>
      unwrapItems(api.GET('/api/v1/tenants/{tenant}/update-servers', {params: {path: {tenant}}, signal})),
  });
export const useUpdateServers = (tenant: string) => useQuery(updateServersQuery(tenant));

export function usePutUpdateServer(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({zone, body}: {zone: string; body: Schemas['NewUpdateServer']}) =>
      unwrap(api.PUT('/api/v1/tenants/{tenant}/update-servers/{zone}', {params: {path: {tenant, zone}}, body})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['update-servers', tenant]}),
  });
}

export const useShowChange = (tenant: string, name: string) =>
  useMutation({
    mutationFn: () =>
      unwrap(
        api.POST('/api/v1/tenants/{tenant}/domains/{name}/plan/changes', {
          params: {path: {tenant, name}},
          body: {keys: [], digest: ''},
        }),
      ),
  });

const publicationsQuery = (tenant: string, name: string) =>
  queryOptions({
    queryKey: ['publications', tenant, name],
    queryFn: ({signal}) =>
      unwrapItems(
        api.GET('/api/v1/tenants/{tenant}/domains/{name}/publications', {params: {path: {tenant, name}}, signal}),
      ),
  });
export const usePublications = (tenant: string, name: string) => useQuery(publicationsQuery(tenant, name));

export function usePublish(tenant: string, name: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (what: {digest: string} | {back: number}) =>
      'digest' in what
        ? unwrap(
            api.POST('/api/v1/tenants/{tenant}/domains/{name}/publications', {
              params: {path: {tenant, name}},
              body: {keys: [], digest: what.digest},
            }),
          )
        : unwrap(
            api.POST('/api/v1/tenants/{tenant}/publications/{id}/rollback', {params: {path: {tenant, id: what.back}}}),
          ),
    onSettled: () => {
      for (const key of ['publications', 'plan']) void queries.invalidateQueries({queryKey: [key, tenant, name]});
    },
  });
}

const STS = '/api/v1/tenants/{tenant}/domains/{name}/sts-policy' as const;

/** The MTA-STS policy that is served here, and the steps to the planned one. */
export const useStsPolicy = (tenant: string, name: string) =>
  useQuery({
    queryKey: ['plan', tenant, name, 'sts'],
    queryFn: ({signal}) => unwrap(api.GET(STS, {params: {path: {tenant, name}}, signal})),
  });

export function useServeSts(tenant: string, name: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () => unwrap(api.POST(STS, {params: {path: {tenant, name}}})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['plan', tenant, name]}),
  });
}
