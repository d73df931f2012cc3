/** Queries and changes of readings. A key begins with the resource's name, so that a change refreshes all that shows it. */
import {queryOptions, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, type Schemas, unwrapItems} from '../../api/client';

export type Subject = Schemas['ReadingSeries']['subject'];

/** A subject of readings, at one provider or over all of them. */
export interface Subjected {
  subject: Subject;
  name: string;
  provider: string;
}

const asked = ({subject, name, provider}: Subjected) => ({subject, name, provider});

const readingsQuery = (tenant: string, of: Subjected, first: string, last?: string) =>
  queryOptions({
    queryKey: ['readings', tenant, of, first, last ?? ''],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/readings', {
          params: {path: {tenant}, query: {...asked(of), first, last, pulls: 'heaviest'}},
          signal,
        }),
      ),
    placeholderData: (previous) => previous,
  });
export const useReadings = (tenant: string, of: Subjected, first: string) => useQuery(readingsQuery(tenant, of, first));
/** Those of an earlier period, where they are asked for. */
export const useEarlierReadings = (tenant: string, of: Subjected, first: string, last: string, enabled: boolean) =>
  useQuery({...readingsQuery(tenant, of, first, last), enabled});

const movedQuery = (tenant: string, of: Subjected, first: string, last: string) =>
  queryOptions({
    queryKey: ['readings', tenant, 'moved', of, first, last],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/readings/explanation', {
          params: {path: {tenant}, query: {...asked(of), first, last}},
          signal,
        }),
      ),
    placeholderData: (previous) => previous,
    retry: false,
  });
export const useMoved = (tenant: string, of: Subjected, first: string, last: string) =>
  useQuery(movedQuery(tenant, of, first, last));

const roomQuery = (tenant: string, subject: Subject, name: string) =>
  queryOptions({
    queryKey: ['readings', tenant, 'room', subject, name],
    queryFn: ({signal}) =>
      unwrapItems(
        api.GET('/api/v1/tenants/{tenant}/readings/headroom', {
          params: {path: {tenant}, query: {subject, name}},
          signal,
        }),
      ),
    retry: false,
  });
export const useRoom = (tenant: string, subject: Subject, name: string) => useQuery(roomQuery(tenant, subject, name));

const aheadQuery = (tenant: string, of: Subjected, wanted: Schemas['ForecastRequest']) =>
  queryOptions({
    queryKey: ['readings', tenant, 'ahead', of, wanted],
    queryFn: ({signal}) =>
      unwrap(
        api.POST('/api/v1/tenants/{tenant}/readings/forecast', {
          params: {path: {tenant}, query: asked(of)},
          body: wanted,
          signal,
        }),
      ),
    placeholderData: (previous) => previous,
    retry: false,
  });
export const useAhead = (tenant: string, of: Subjected, wanted: Schemas['ForecastRequest']) =>
  useQuery(aheadQuery(tenant, of, wanted));

const annotationsQuery = (tenant: string, first: string, domain?: string) =>
  queryOptions({
    queryKey: ['annotations', tenant, first, domain ?? ''],
    queryFn: ({signal}) =>
      unwrapItems(
        api.GET('/api/v1/tenants/{tenant}/annotations', {params: {path: {tenant}, query: {first, domain}}, signal}),
      ),
    placeholderData: (previous) => previous,
  });
export const useAnnotations = (tenant: string, first: string, domain?: string, enabled = true) =>
  useQuery({...annotationsQuery(tenant, first, domain), enabled});

export const useAddAnnotation = (tenant: string) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['NewAnnotation']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/annotations', {params: {path: {tenant}}, body})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['annotations', tenant]}),
  });
};

export const useDeleteAnnotation = (tenant: string) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (id: number) =>
      unwrap(api.DELETE('/api/v1/tenants/{tenant}/annotations/{id}', {params: {path: {tenant, id}}})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['annotations', tenant]}),
  });
};

const readingSettingsQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['reading-settings', tenant],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/reading-settings', {params: {path: {tenant}}, signal})),
  });
export const useReadingSettings = (tenant: string) => useQuery(readingSettingsQuery(tenant));

/** Set the parameters of readings; null goes back to the built-in ones. */
export function useChangeReadingSettings(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['ReadingSettings'] | null) => {
      const params = {path: {tenant}};
      return body === null
        ? unwrap(api.DELETE('/api/v1/tenants/{tenant}/reading-settings', {params}))
        : unwrap(api.PUT('/api/v1/tenants/{tenant}/reading-settings', {params, body}));
    },
    onSuccess: (kept) => queries.setQueryData(['reading-settings', tenant], kept),
  });
}
