import {keepPreviousData, useInfiniteQuery, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, unwrapItems, type Schemas} from '../../api/client';

const key = (tenant: string, ...more: unknown[]) => ['placement', tenant, ...more];
const RUNS_AT_ONCE = 15;
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
          params: {path: {tenant}, query: {cursor: pageParam || undefined, limit: RUNS_AT_ONCE}},
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

export const useChangeOutlet = (tenant: string) =>
  useChange(tenant, ({name, ...body}: Schemas['OutletChange'] & {name: string}) =>
    unwrap(api.PATCH(OUTLET, {params: {path: {tenant, name}}, body})),
  );

/** The assay of a run's message; there is none while it awaits its message, and for some seconds after that. */
export const useRunAssay = (tenant: string, id: number, made: boolean) =>
  useQuery({
    queryKey: key(tenant, 'assay', id),
    queryFn: ({signal}) => unwrap(api.GET(`${RUN}/assay`, {params: {path: {tenant, id}}, signal})),
    enabled: made,
  });

// Shared links

const SHARES = `${RUN}/shares` as const;

export const useShares = (tenant: string, id: number) =>
  useQuery({
    queryKey: key(tenant, 'shares', id),
    queryFn: ({signal}) => unwrapItems(api.GET(SHARES, {params: {path: {tenant, id}}, signal})),
  });

export const useAddShare = (tenant: string, id: number) =>
  useChange(tenant, (body: Schemas['NewShare']) => unwrap(api.POST(SHARES, {params: {path: {tenant, id}}, body})));

export const useDeleteShare = (tenant: string, id: number) =>
  useChange(tenant, (share: number) => unwrap(api.DELETE(`${SHARES}/{share}`, {params: {path: {tenant, id, share}}})));

// Schedules

const SCHEDULES = '/api/v1/tenants/{tenant}/placement-schedules' as const;
const SCHEDULE = `${SCHEDULES}/{name}` as const;

export const useSchedules = (tenant: string) =>
  useQuery({
    queryKey: key(tenant, 'schedules'),
    queryFn: ({signal}) => unwrapItems(api.GET(SCHEDULES, {params: {path: {tenant}}, signal})),
  });

export const useAddSchedule = (tenant: string) =>
  useChange(tenant, (body: Schemas['NewSchedule']) => unwrap(api.POST(SCHEDULES, {params: {path: {tenant}}, body})));

export const useChangeSchedule = (tenant: string) =>
  useChange(tenant, ({name, ...body}: Schemas['ScheduleChange'] & {name: string}) =>
    unwrap(api.PATCH(SCHEDULE, {params: {path: {tenant, name}}, body})),
  );

export const useCopySchedule = (tenant: string) =>
  useChange(tenant, ({name, copy}: {name: string; copy: string}) =>
    unwrap(api.POST(`${SCHEDULE}/copy`, {params: {path: {tenant, name}}, body: {name: copy}})),
  );

export const useRunSchedule = (tenant: string) =>
  useChange(tenant, (name: string) => unwrap(api.POST(`${SCHEDULE}/run`, {params: {path: {tenant, name}}})));

export const useDeleteSchedule = (tenant: string) =>
  useChange(tenant, (name: string) => unwrap(api.DELETE(SCHEDULE, {params: {path: {tenant, name}}})));

/** Hands in the message that a schedule copies from now on; the octets go as they are. */
export const useHandIn = (tenant: string) =>
  useChange(tenant, ({name, file}: {name: string; file: Blob}) =>
    unwrap(
      api.PUT(`${SCHEDULE}/message`, {
        params: {path: {tenant, name}},
        body: file as unknown as string,
        bodySerializer: (each: unknown) => each as Blob,
        headers: {'Content-Type': 'message/rfc822'},
      }),
    ),
  );
