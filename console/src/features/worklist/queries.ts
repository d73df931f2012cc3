/** Queries and changes of worklist. A key begins with the resource's name, so that a change refreshes all that shows it. */
import {queryOptions, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, type Schemas, unwrapItems} from '../../api/client';

const worklistQuery = (tenant: string, state = '', assigned = '', on = '') =>
  queryOptions({
    queryKey: ['worklist', tenant, state, assigned, on],
    queryFn: ({signal}) =>
      unwrapItems(
        api.GET('/api/v1/worklist', {
          params: {
            query: {
              tenant: tenant || undefined,
              state: state ? [state as Schemas['WorkItem']['state']] : undefined,
              assigned_to: assigned || undefined,
              on: on || undefined,
            },
          },
          signal,
        }),
      ),
    refetchInterval: 60_000,
    placeholderData: (previous) => previous,
  });
export const useWorklist = (tenant: string, state = '', assigned = '', on = '') =>
  useQuery(worklistQuery(tenant, state, assigned, on));

const workItemQuery = (tenant: string, id: number) =>
  queryOptions({
    queryKey: ['worklist', tenant, 'item', id],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/worklist/{id}', {params: {path: {tenant, id}}, signal})),
    retry: false,
  });
export const useWorkItem = (tenant: string, id: number) => useQuery(workItemQuery(tenant, id));

const peopleQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['members', tenant],
    queryFn: ({signal}) => unwrapItems(api.GET('/api/v1/tenants/{tenant}/members', {params: {path: {tenant}}, signal})),
    staleTime: 600_000,
  });
export const useMembers = (tenant: string) => useQuery(peopleQuery(tenant));

export const useActOnWork = (tenant: string, id: number) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['WorkAct']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/worklist/{id}/actions', {params: {path: {tenant, id}}, body})),
    onSuccess: () =>
      Promise.all(
        ['worklist', 'wall', 'audit', 'readings'].map((each) => queries.invalidateQueries({queryKey: [each]})),
      ),
  });
};

/** One action on several items, of one tenant or of several; what could not be changed is said of each. */
export const useActOnAll = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async ({items, act}: {items: {tenant: string; id: number}[]; act: Schemas['WorkAct']}) => {
      const tenants = [...new Set(items.map((item) => item.tenant))];
      const done = await Promise.all(
        tenants.map((tenant) =>
          unwrap(
            api.POST('/api/v1/tenants/{tenant}/worklist/actions', {
              params: {path: {tenant}},
              body: {...act, ids: items.filter((item) => item.tenant === tenant).map((item) => item.id)},
            }),
          ),
        ),
      );
      return {
        changed: done.flatMap((each) => each.changed),
        problems: done.flatMap((each) => each.problems.map((problem) => problem.what)),
      };
    },
    onSettled: () =>
      Promise.all(
        ['worklist', 'wall', 'audit', 'readings'].map((each) => queries.invalidateQueries({queryKey: [each]})),
      ),
  });
};

export const useDetection = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (tenant: string) =>
      unwrapItems(api.POST('/api/v1/tenants/{tenant}/worklist/detection', {params: {path: {tenant}}})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['worklist']}),
  });
};

const alertSettingsQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['alerts', tenant],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/alert-settings', {params: {path: {tenant}}, signal})),
  });
export const useAlertSettings = (tenant: string) => useQuery(alertSettingsQuery(tenant));

export const usePutAlertSettings = (tenant: string) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['AlertSettings']) =>
      unwrap(api.PUT('/api/v1/tenants/{tenant}/alert-settings', {params: {path: {tenant}}, body})),
    onSuccess: (kept) => queries.setQueryData(['alerts', tenant], kept),
  });
};

export const useTestChannel = (tenant: string) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (channel: string) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/alert-tests', {params: {path: {tenant}}, body: {channel}})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['checklist', tenant]}),
  });
};

const checklistQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['checklist', tenant],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/tenants/{tenant}/checklist', {params: {path: {tenant}}, signal})),
    enabled: tenant !== '',
  });
export const useChecklist = (tenant: string) => useQuery(checklistQuery(tenant));

const toldQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['notifications', tenant],
    queryFn: ({signal}) =>
      unwrapItems(api.GET('/api/v1/tenants/{tenant}/notifications', {params: {path: {tenant}}, signal})),
    refetchInterval: 30_000,
  });
export const useNotifications = (tenant: string) => useQuery(toldQuery(tenant));

const brakesQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['pauses', tenant],
    queryFn: ({signal}) =>
      unwrapItems(api.GET('/api/v1/tenants/{tenant}/stream-pauses', {params: {path: {tenant}}, signal})),
  });
export const useStreamPauses = (tenant: string) => useQuery(brakesQuery(tenant));

export const usePauseStream = (tenant: string) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['StreamPauseChange']) =>
      unwrapItems(api.POST('/api/v1/tenants/{tenant}/stream-pauses', {params: {path: {tenant}}, body})),
    onSuccess: (found) => queries.setQueryData(['pauses', tenant], found),
  });
};

export const useResumeStream = (tenant: string) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['StreamPauseChange']) =>
      unwrapItems(api.POST('/api/v1/tenants/{tenant}/stream-pauses/resume', {params: {path: {tenant}}, body})),
    onSuccess: (found) => queries.setQueryData(['pauses', tenant], found),
  });
};

const linesQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['lines', tenant],
    queryFn: ({signal}) => unwrapItems(api.GET('/api/v1/tenants/{tenant}/lines', {params: {path: {tenant}}, signal})),
  });
export const useLines = (tenant: string) => useQuery(linesQuery(tenant));
