import {keepPreviousData, useInfiniteQuery, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, unwrapItems, type Schemas} from '../../api/client';

const key = (tenant: string, ...more: unknown[]) => ['placement', tenant, ...more];
const LIVE = 2000; // milliseconds between looks while a run goes on
const goesOn = (state?: string) => state === 'awaiting' || state === 'running';

export const useSeeds = (tenant: string) =>
  useQuery({
    queryKey: key(tenant, 'seeds'),
    queryFn: ({signal}) => unwrapItems(api.GET('/api/v1/tenants/{tenant}/seeds', {params: {path: {tenant}}, signal})),
  });

export const useOutlets = (tenant: string) =>
  useQuery({
    queryKey: key(tenant, 'outlets'),
    queryFn: ({signal}) => unwrapItems(api.GET('/api/v1/tenants/{tenant}/outlets', {params: {path: {tenant}}, signal})),
  });

/** Runs, the newest first, page by page; while one goes on, its numbers change by themselves. */
export const useRuns = (tenant: string) =>
  useInfiniteQuery({
    queryKey: key(tenant, 'runs'),
    queryFn: ({signal, pageParam}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/placement-runs', {
          params: {path: {tenant}, query: {cursor: pageParam || undefined, limit: 50}},
          signal,
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (page) => page.next ?? undefined,
    refetchInterval: (query) =>
      query.state.data?.pages.some((page) => page.items.some((run) => goesOn(run.state))) ? LIVE : false,
  });

export const useHistory = (tenant: string, days: number, outlet: string) =>
  useQuery({
    queryKey: key(tenant, 'history', days, outlet),
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/placement-history', {
          params: {path: {tenant}, query: {days, outlet: outlet || undefined}},
          signal,
        }),
      ),
    placeholderData: keepPreviousData,
  });

const RUN = '/api/v1/tenants/{tenant}/placement-runs/{id}' as const;

export const useRun = (tenant: string, id: number) =>
  useQuery({
    queryKey: key(tenant, 'run', id),
    queryFn: ({signal}) => unwrap(api.GET(RUN, {params: {path: {tenant, id}}, signal})),
    refetchInterval: (query) => (goesOn(query.state.data?.state) ? LIVE : false),
  });

/** Does something, and reads everything about the tenant's placement again. */
function useChange<In, Out>(tenant: string, mutationFn: (given: In) => Promise<Out>) {
  const client = useQueryClient();
  return useMutation({mutationFn, onSuccess: () => client.invalidateQueries({queryKey: key(tenant)})});
}

export const useAddSeed = (tenant: string) =>
  useChange(tenant, (body: Schemas['NewSeed']) =>
    unwrap(api.POST('/api/v1/tenants/{tenant}/seeds', {params: {path: {tenant}}, body})),
  );

const SEED = '/api/v1/tenants/{tenant}/seeds/{id}' as const;

export const useChangeSeed = (tenant: string) =>
  useChange(tenant, ({id, ...body}: Schemas['SeedChange'] & {id: number}) =>
    unwrap(api.PATCH(SEED, {params: {path: {tenant, id}}, body})),
  );

export const useCheckSeed = (tenant: string) =>
  useChange(tenant, (id: number) => unwrap(api.POST(`${SEED}/check`, {params: {path: {tenant, id}}})));

export const useDeleteSeed = (tenant: string) =>
  useChange(tenant, (id: number) => unwrap(api.DELETE(SEED, {params: {path: {tenant, id}}})));

export const useAddOutlet = (tenant: string) =>
  useChange(tenant, (body: Schemas['NewOutlet']) =>
    unwrap(api.POST('/api/v1/tenants/{tenant}/outlets', {params: {path: {tenant}}, body})),
  );

const OUTLET = '/api/v1/tenants/{tenant}/outlets/{name}' as const;

export const useCheckOutlet = (tenant: string) =>
  useChange(tenant, (name: string) => unwrap(api.POST(`${OUTLET}/check`, {params: {path: {tenant, name}}})));

export const useDeleteOutlet = (tenant: string) =>
  useChange(tenant, (name: string) => unwrap(api.DELETE(OUTLET, {params: {path: {tenant, name}}})));

/** Starts a run, and hands its message in if there is one; the octets go as they are. */
export const useStartRun = (tenant: string) =>
  useChange(tenant, async ({file, ...body}: Schemas['NewRun'] & {file?: Blob}) => {
    const run = await unwrap(api.POST('/api/v1/tenants/{tenant}/placement-runs', {params: {path: {tenant}}, body}));
    if (!file) return run;
    return unwrap(
      api.PUT(`${RUN}/message`, {
        params: {path: {tenant, id: run.id}},
        body: file as unknown as string,
        bodySerializer: (each: unknown) => each as Blob,
        headers: {'Content-Type': 'message/rfc822'},
      }),
    );
  });

export const useCancelRun = (tenant: string) =>
  useChange(tenant, (id: number) => unwrap(api.POST(`${RUN}/cancel`, {params: {path: {tenant, id}}})));

export const useDeleteRun = (tenant: string) =>
  useChange(tenant, (id: number) => unwrap(api.DELETE(RUN, {params: {path: {tenant, id}}})));
