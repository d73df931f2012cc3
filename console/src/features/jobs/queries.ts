/** Queries and changes of jobs. A key begins with the resource's name, so that a change refreshes all that shows it. */
import {queryOptions, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, type Schemas, unwrapItems} from '../../api/client';

const PIECE = 1024 * 1024;

const isOver = (job?: Schemas['Job']) => !job || ['done', 'failed', 'cancelled', 'collecting'].includes(job.state);

const jobsQuery = (tenant: string, kind: Schemas['Job']['kind']) =>
  queryOptions({
    queryKey: ['jobs', tenant, kind],
    queryFn: ({signal}) =>
      unwrapItems(api.GET('/api/v1/tenants/{tenant}/jobs', {params: {path: {tenant}, query: {kind}}, signal})),
    refetchInterval: (query) => (query.state.data?.every((job) => isOver(job)) === false ? 1000 : false),
  });
export const useJobs = (tenant: string, kind: Schemas['Job']['kind']) => useQuery(jobsQuery(tenant, kind));

const jobQuery = (tenant: string, id: number) =>
  queryOptions({
    queryKey: ['jobs', tenant, id],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/jobs/{id}', {params: {path: {tenant, id}}, signal})),
    enabled: id > 0,
    refetchInterval: (query) => (isOver(query.state.data) ? false : 700),
  });
export const useJob = (tenant: string, id: number) => useQuery(jobQuery(tenant, id));

export function useRunJob(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({id, dry = false, stop = false}: {id: number; dry?: boolean; stop?: boolean}) =>
      stop
        ? unwrap(api.POST('/api/v1/tenants/{tenant}/jobs/{id}/cancel', {params: {path: {tenant, id}}}))
        : unwrap(api.POST('/api/v1/tenants/{tenant}/jobs/{id}/run', {params: {path: {tenant, id}}, body: {dry}})),
    onSuccess: () => {
      void queries.invalidateQueries({queryKey: ['jobs', tenant]});
      void queries.invalidateQueries({queryKey: ['suppression', tenant]});
    },
  });
}

/** Hand in the file of a job piece by piece; `told` hears which share is there. */
export async function sendPieces(tenant: string, id: number, file: File, told: (share: number) => void) {
  for (let number = 0; number * PIECE < file.size; number++) {
    const body = file.slice(number * PIECE, (number + 1) * PIECE);
    await unwrap(
      api.PUT('/api/v1/tenants/{tenant}/jobs/{id}/pieces/{number}', {
        params: {path: {tenant, id, number}},
        body: body as never,
        bodySerializer: (value) => value as never,
        headers: {'Content-Type': 'application/octet-stream'},
      }),
    );
    told(Math.min(1, ((number + 1) * PIECE) / file.size));
  }
}
