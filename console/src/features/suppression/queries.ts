/** Queries and changes of suppression. A key begins with the resource's name, so that a change refreshes all that shows it. */
import {queryOptions, useInfiniteQuery, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, type Schemas, unwrapItems} from '../../api/client';
import {sendPieces} from '../jobs/queries';

export interface Listed {
  text?: string;
  state?: Schemas['SuppressionEntry']['state'][];
  reason?: Schemas['SuppressionEntry']['reason'][];
  came_back?: boolean;
  ends_within_days?: number;
}

const named = (listed: Listed) => ({
  ...listed,
  text: listed.text || undefined,
  came_back: listed.came_back || undefined,
});

export const useSuppression = (tenant: string, listed: Listed) =>
  useInfiniteQuery({
    queryKey: ['suppression', tenant, 'list', listed],
    queryFn: ({pageParam, signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/suppression', {
          params: {path: {tenant}, query: {limit: 100, cursor: pageParam || undefined, ...named(listed)}},
          signal,
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (page) => page.next ?? undefined,
    retry: false,
    placeholderData: (previous) => previous,
  });

const suppressionCountQuery = (tenant: string, listed: Listed) =>
  queryOptions({
    queryKey: ['suppression', tenant, 'count', listed],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/suppression/count', {params: {path: {tenant}, query: named(listed)}, signal}),
      ),
    placeholderData: (previous) => previous,
  });
export const useSuppressionCount = (tenant: string, listed: Listed) => useQuery(suppressionCountQuery(tenant, listed));

const addressStatusQuery = (tenant: string, address: string) =>
  queryOptions({
    queryKey: ['suppression', tenant, 'status', address],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/suppression/status', {params: {path: {tenant}, query: {address}}, signal}),
      ),
    enabled: address !== '',
    retry: false,
  });
export const useAddressStatus = (tenant: string, address: string) => useQuery(addressStatusQuery(tenant, address));

const growthQuery = (tenant: string, first: string, last?: string) =>
  queryOptions({
    queryKey: ['suppression', tenant, 'growth', first, last ?? ''],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/suppression/growth', {
          params: {path: {tenant}, query: {first, last}},
          signal,
        }),
      ),
    placeholderData: (previous) => previous,
  });
export const useGrowth = (tenant: string, first: string) => useQuery(growthQuery(tenant, first));
/** Of an earlier period, where it is asked for. */
export const useEarlierGrowth = (tenant: string, first: string, last: string, enabled: boolean) =>
  useQuery({...growthQuery(tenant, first, last), enabled});

function useListChange<Body, Result>(tenant: string, call: (body: Body) => Promise<Result>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: call,
    onSuccess: () => void queries.invalidateQueries({queryKey: ['suppression', tenant]}),
  });
}

export const useHold = (tenant: string) =>
  useListChange(tenant, (body: Schemas['NewEntries']) =>
    unwrap(api.POST('/api/v1/tenants/{tenant}/suppression', {params: {path: {tenant}}, body})),
  );

export const useLift = (tenant: string) =>
  useListChange(tenant, (body: Schemas['Lift']) =>
    unwrap(api.POST('/api/v1/tenants/{tenant}/suppression/lifts', {params: {path: {tenant}}, body})),
  );

export const useDecide = (tenant: string) =>
  useListChange(tenant, (body: Schemas['Decision']) =>
    unwrapItems(api.POST('/api/v1/tenants/{tenant}/suppression/decisions', {params: {path: {tenant}}, body})),
  );

export const useClearance = (tenant: string) =>
  useMutation({
    mutationFn: (body: Schemas['ClearanceRequest']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/clearance', {params: {path: {tenant}}, body})),
  });

export const useAddressChecks = (tenant: string) =>
  useMutation({
    mutationFn: (body: Schemas['AddressCheckRequest']) =>
      unwrapItems(api.POST('/api/v1/tenants/{tenant}/address-checks', {params: {path: {tenant}}, body})),
  });

const addressWordsQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['address-words', tenant],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/address-words', {params: {path: {tenant}}, signal})),
  });
export const useAddressWords = (tenant: string) => useQuery(addressWordsQuery(tenant));

export function usePutAddressWords(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['AddressWords']) =>
      unwrap(api.PUT('/api/v1/tenants/{tenant}/address-words', {params: {path: {tenant}}, body})),
    onSuccess: (words) => queries.setQueryData(['address-words', tenant], words),
  });
}

/** How addresses are compared and stored. */
export const useMatching = (tenant: string) =>
  useQuery({
    queryKey: ['suppression', tenant, 'matching'],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/suppression/matching', {params: {path: {tenant}}, signal})),
  });

export const usePutMatching = (tenant: string) => {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['MatchingSettings']) =>
      unwrap(api.PUT('/api/v1/tenants/{tenant}/suppression/matching', {params: {path: {tenant}}, body})),
    onSuccess: () => client.invalidateQueries({queryKey: ['suppression', tenant]}),
  });
};

const suppressionPolicyQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['suppression-policy', tenant],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/suppression/policy', {params: {path: {tenant}}, signal})),
  });
export const useSuppressionPolicy = (tenant: string) => useQuery(suppressionPolicyQuery(tenant));

export function usePutPolicy(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['SuppressionPolicy'] | null) =>
      body === null
        ? unwrap(api.DELETE('/api/v1/tenants/{tenant}/suppression/policy', {params: {path: {tenant}}}))
        : unwrap(api.PUT('/api/v1/tenants/{tenant}/suppression/policy', {params: {path: {tenant}}, body})),
    onSuccess: (view) => queries.setQueryData(['suppression-policy', tenant], view),
  });
}

export const useTryPolicy = (tenant: string) =>
  useMutation({
    mutationFn: (body: Schemas['PolicyBacktestRequest']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/suppression/policy/backtests', {params: {path: {tenant}}, body})),
  });

/** Start a job and hand in its file piece by piece. */
export function useSendList(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async ({
      file,
      kind,
      request,
      verify = false,
      told,
    }: {
      file: File;
      kind: 'import' | 'list_check';
      request: Omit<Schemas['ImportRequest'], 'name'>;
      verify?: boolean;
      told: (share: number) => void;
    }) => {
      const path = {tenant};
      const job =
        kind === 'import'
          ? await unwrap(
              api.POST('/api/v1/tenants/{tenant}/suppression/imports', {
                params: {path},
                body: {...request, name: file.name},
              }),
            )
          : await unwrap(
              api.POST('/api/v1/tenants/{tenant}/list-checks', {
                params: {path},
                body: {name: file.name, verify} as Schemas['ListCheckRequest'],
              }),
            );
      await sendPieces(tenant, job.id, file, told);
      return unwrap(
        api.POST('/api/v1/tenants/{tenant}/jobs/{id}/run', {
          params: {path: {tenant, id: job.id}},
          body: {dry: kind === 'import'},
        }),
      );
    },
    onSettled: () => void queries.invalidateQueries({queryKey: ['jobs', tenant]}),
  });
}

const unsubscribesQuery = (tenant: string, days: number) =>
  queryOptions({
    queryKey: ['suppression', tenant, 'unsubscribes', days],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/unsubscribes', {params: {path: {tenant}, query: {days}}, signal})),
    placeholderData: (previous) => previous,
  });
export const useUnsubscribes = (tenant: string, days: number) => useQuery(unsubscribesQuery(tenant, days));

const gatesQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['gates', tenant],
    queryFn: ({signal}) => unwrapItems(api.GET('/api/v1/tenants/{tenant}/gates', {params: {path: {tenant}}, signal})),
  });
export const useGates = (tenant: string) => useQuery(gatesQuery(tenant));

export function useChangeGates(tenant: string) {
  const queries = useQueryClient();
  const onSuccess = () => void queries.invalidateQueries({queryKey: ['gates', tenant]});
  const add = useMutation({
    mutationFn: (body: Schemas['NewGate']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/gates', {params: {path: {tenant}}, body})),
    onSuccess,
  });
  const drop = useMutation({
    mutationFn: (id: number) =>
      unwrap(api.DELETE('/api/v1/tenants/{tenant}/gates/{id}', {params: {path: {tenant, id}}})),
    onSuccess,
  });
  return {add, drop};
}
