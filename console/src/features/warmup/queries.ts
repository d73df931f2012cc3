/** Queries and changes of warm-up plans. A key begins with the resource's name, so that a change refreshes all of it. */
import {keepPreviousData, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, unwrapItems, type Schemas} from '../../api/client';
import {sendPieces} from '../jobs/queries';

const PLANS = '/api/v1/tenants/{tenant}/warmup-plans' as const;
const PLAN = `${PLANS}/{name}` as const;
const EVERY = 60_000; // milliseconds
const key = (tenant: string, ...rest: unknown[]) => ['warmup', tenant, ...rest];

export const usePlans = (tenant: string) =>
  useQuery({
    queryKey: key(tenant, 'plans'),
    queryFn: ({signal}) => unwrapItems(api.GET(PLANS, {params: {path: {tenant}}, signal})),
    refetchInterval: EVERY,
  });

export const useCourse = (tenant: string, name: string) =>
  useQuery({
    queryKey: key(tenant, 'days', name),
    queryFn: ({signal}) => unwrap(api.GET(`${PLAN}/days`, {params: {path: {tenant, name}}, signal})),
    refetchInterval: EVERY,
  });

export const usePreview = (tenant: string, settings: Schemas['WarmupTiming']) =>
  useQuery({
    queryKey: key(tenant, 'preview', settings),
    queryFn: ({signal}) =>
      unwrap(api.POST(`${PLANS}/preview`, {params: {path: {tenant}}, body: settings as never, signal})),
    placeholderData: keepPreviousData,
    retry: false,
  });

/** Does something, and reads everything about the tenant's plans again. */
function useChange<In, Out>(tenant: string, mutationFn: (given: In) => Promise<Out>) {
  const client = useQueryClient();
  return useMutation({
    mutationFn,
    onSuccess: () => {
      void client.invalidateQueries({queryKey: key(tenant)});
      void client.invalidateQueries({queryKey: ['wall']});
    },
  });
}

export const useAddPlan = (tenant: string) =>
  useChange(tenant, (body: Partial<Schemas['NewWarmupPlan']> & {name: string}) =>
    unwrap(api.POST(PLANS, {params: {path: {tenant}}, body: body as never})),
  );

export const useChangePlan = (tenant: string) =>
  useChange(tenant, ({name, ...body}: Schemas['WarmupPlanChange'] & {name: string}) =>
    unwrap(api.PATCH(PLAN, {params: {path: {tenant, name}}, body})),
  );

export const useOverrule = (tenant: string) =>
  useChange(tenant, ({name, ...body}: Schemas['WarmupOverrule'] & {name: string}) =>
    unwrap(api.POST(`${PLAN}/overrule`, {params: {path: {tenant, name}}, body})),
  );

export const useDeletePlan = (tenant: string) =>
  useChange(tenant, (name: string) => unwrap(api.DELETE(PLAN, {params: {path: {tenant, name}}})));

/** Cut a list: start the job, hand in its file piece by piece, run it. */
export function useCutList(tenant: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: async ({
      file,
      told,
      ...request
    }: {
      file: File;
      plan: string;
      engagement: string;
      portions: 'hour' | 'day';
      told: (share: number) => void;
    }) => {
      const job = await unwrap(
        api.POST('/api/v1/tenants/{tenant}/list-cuts', {
          params: {path: {tenant}},
          body: {...request, name: file.name} as never,
        }),
      );
      await sendPieces(tenant, job.id, file, told);
      return unwrap(
        api.POST('/api/v1/tenants/{tenant}/jobs/{id}/run', {
          params: {path: {tenant, id: job.id}},
          body: {dry: false},
        }),
      );
    },
    onSettled: () => void client.invalidateQueries({queryKey: ['jobs', tenant]}),
  });
}
