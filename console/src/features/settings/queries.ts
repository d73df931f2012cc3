/** Queries and changes of settings. A key begins with the resource's name, so that a change refreshes all that shows it. */
import {queryOptions, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, type Schemas, unwrapItems} from '../../api/client';

const webhooksQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['webhooks', tenant],
    queryFn: ({signal}) =>
      unwrapItems(api.GET('/api/v1/tenants/{tenant}/webhooks', {params: {path: {tenant}}, signal})),
    refetchInterval: 15_000,
  });
export const useWebhooks = (tenant: string) => useQuery(webhooksQuery(tenant));

const webhookCallsQuery = (tenant: string, id: number) =>
  queryOptions({
    queryKey: ['webhooks', tenant, id],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/webhooks/{id}/calls', {params: {path: {tenant, id}}, signal})),
    refetchInterval: 15_000,
  });
export const useWebhookCalls = (tenant: string, id: number) => useQuery(webhookCallsQuery(tenant, id));

/** A change of webhooks, after which all of them are asked for again. */
function useWebhookChange<Sent, Got>(tenant: string, mutationFn: (sent: Sent) => Promise<Got>) {
  const queries = useQueryClient();
  return useMutation({mutationFn, onSettled: () => queries.invalidateQueries({queryKey: ['webhooks', tenant]})});
}

export const useAddWebhook = (tenant: string) =>
  useWebhookChange(tenant, (body: Schemas['NewWebhook']) =>
    unwrap(api.POST('/api/v1/tenants/{tenant}/webhooks', {params: {path: {tenant}}, body})),
  );

export const useChangeWebhook = (tenant: string) =>
  useWebhookChange(tenant, ({id, body}: {id: number; body: Schemas['WebhookChange']}) =>
    unwrap(api.PATCH('/api/v1/tenants/{tenant}/webhooks/{id}', {params: {path: {tenant, id}}, body})),
  );

export const useDropWebhook = (tenant: string) =>
  useWebhookChange(tenant, (id: number) =>
    unwrap(api.DELETE('/api/v1/tenants/{tenant}/webhooks/{id}', {params: {path: {tenant, id}}})),
  );

export const useRotateSecret = (tenant: string) =>
  useWebhookChange(tenant, (id: number) =>
    unwrap(
      api.POST('/api/v1/tenants/{tenant}/webhooks/{id}/rotation', {
        params: {path: {tenant, id}},
        body: {overlap_hours: 24},
      }),
    ),
  );
export const useTestWebhook = (tenant: string) =>
  useWebhookChange(tenant, (id: number) =>
    unwrap(api.POST('/api/v1/tenants/{tenant}/webhooks/{id}/test', {params: {path: {tenant, id}}})),
  );

export const useReplayWebhook = (tenant: string) =>
  useWebhookChange(tenant, (id: number) =>
    unwrap(api.POST('/api/v1/tenants/{tenant}/webhooks/{id}/replay', {params: {path: {tenant, id}}})),
  );

const tokensQuery = () =>
  queryOptions({queryKey: ['tokens'], queryFn: ({signal}) => unwrapItems(api.GET('/api/v1/tokens', {signal}))});
export const useTokens = () => useQuery(tokensQuery());

export function useMakeToken() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['NewToken']) => unwrap(api.POST('/api/v1/tokens', {body})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['tokens']}),
  });
}

export function useRotateToken() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (id: number) =>
      unwrap(
        api.POST('/api/v1/tokens/{id}/rotation', {
          params: {path: {id}},
          body: {overlap_hours: 24, expires_in_days: 90},
        }),
      ),
    onSuccess: () => queries.invalidateQueries({queryKey: ['tokens']}),
  });
}

export function useDropToken() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (id: number) => unwrap(api.DELETE('/api/v1/tokens/{id}', {params: {path: {id}}})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['tokens']}),
  });
}
