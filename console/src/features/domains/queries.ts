/** Queries and changes of domains. A key begins with the resource's name, so that a change refreshes all that shows it. */
import {useState} from 'react';
import {queryOptions, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, type Schemas} from '../../api/client';

const domainsQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['domains', tenant],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/domains', {params: {path: {tenant}, query: {limit: 1000}}, signal})),
  });
export const useDomains = (tenant: string) => useQuery(domainsQuery(tenant));

const newestAuditQuery = (tenant: string, name: string) =>
  queryOptions({
    queryKey: ['audit', tenant, name],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/domains/{name}/audits/newest', {params: {path: {tenant, name}}, signal}),
      ),
    retry: false,
  });
export const useNewestAudit = (tenant: string, name: string) => useQuery(newestAuditQuery(tenant, name));

export function useAudit(tenant: string, name: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/domains/{name}/audits', {params: {path: {tenant, name}}})),
    onSuccess: (audit) => {
      queries.setQueryData(['audit', tenant, name], audit);
      for (const key of ['audits', 'history', 'comparison'])
        void queries.invalidateQueries({queryKey: [key, tenant, name]});
      void queries.invalidateQueries({queryKey: ['wall']});
      void queries.invalidateQueries({queryKey: ['domains', tenant]});
    },
  });
}

/** Audits domains one after the other, a few at a time; says how many are done, and names those that failed. */
export function useAuditAll(tenant: string) {
  const queries = useQueryClient();
  const [done, setDone] = useState(0);
  const audit = useMutation({
    mutationFn: async (names: string[]) => {
      setDone(0);
      const failed: string[] = [];
      const waiting = [...names];
      const work = async () => {
        for (let name = waiting.shift(); name !== undefined; name = waiting.shift()) {
          await unwrap(
            api.POST('/api/v1/tenants/{tenant}/domains/{name}/audits', {params: {path: {tenant, name}}}),
          ).catch(() => failed.push(name!));
          setDone((now) => now + 1);
        }
      };
      await Promise.all(Array.from({length: Math.min(AT_ONCE, names.length)}, work));
      return {audited: names.length - failed.length, failed};
    },
    onSettled: () =>
      Promise.all(['domains', 'audits', 'audit', 'wall'].map((key) => queries.invalidateQueries({queryKey: [key]}))),
  });
  return {...audit, done};
}
const AT_ONCE = 3; // audits that this page waits for at a time

const domainQuery = (tenant: string, name: string) =>
  queryOptions({
    queryKey: ['domains', tenant, name],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/domains/{name}', {params: {path: {tenant, name}}, signal})),
  });
export const useDomain = (tenant: string, name: string) => useQuery(domainQuery(tenant, name));

export function useChangeDomain(tenant: string, name: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['DomainChange']) =>
      unwrap(api.PATCH('/api/v1/tenants/{tenant}/domains/{name}', {params: {path: {tenant, name}}, body})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['domains', tenant]}),
  });
}

const auditsQuery = (tenant: string, name: string) =>
  queryOptions({
    queryKey: ['audits', tenant, name],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/domains/{name}/audits', {params: {path: {tenant, name}}, signal})),
  });
export const useAudits = (tenant: string, name: string) => useQuery(auditsQuery(tenant, name));

const historyQuery = (tenant: string, name: string) =>
  queryOptions({
    queryKey: ['history', tenant, name],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/domains/{name}/history', {params: {path: {tenant, name}}, signal})),
  });
export const useHistory = (tenant: string, name: string) => useQuery(historyQuery(tenant, name));

const comparisonQuery = (tenant: string, name: string, before?: number, after?: number) =>
  queryOptions({
    queryKey: ['comparison', tenant, name, before, after],
    enabled: before != null && after != null,
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/domains/{name}/audits/compare', {
          params: {path: {tenant, name}, query: {before, after}},
          signal,
        }),
      ),
  });
export const useComparison = (tenant: string, name: string, before?: number, after?: number) =>
  useQuery(comparisonQuery(tenant, name, before, after));

export const useSpfTrial = (tenant: string) =>
  useMutation({
    mutationFn: (body: Schemas['SpfCheckRequest']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/spf-checks', {params: {path: {tenant}}, body})),
  });

export const useMessageCheck = (tenant: string) =>
  useMutation({
    mutationFn: ({message, ...query}: {message: string; ip: string; mail_from: string}) =>
      unwrap(
        api.POST('/api/v1/tenants/{tenant}/message-checks', {
          params: {path: {tenant}, query},
          body: message,
          bodySerializer: (body: unknown) => body as string,
          headers: {'Content-Type': 'message/rfc822'},
        }),
      ),
  });

export const useFeedbackReport = (tenant: string) =>
  useMutation({
    mutationFn: (file: Blob) =>
      unwrap(
        api.POST('/api/v1/tenants/{tenant}/feedback-reports', {
          params: {path: {tenant}},
          body: file as unknown as string,
          bodySerializer: (body: unknown) => body as Blob,
          headers: {'Content-Type': 'application/octet-stream'},
        }),
      ),
  });

/** Start a batch of audits; it is a job like any other from then on. */
export function useStartBatch(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (names: string[]) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/batches', {params: {path: {tenant}}, body: {names, selectors: []}})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['jobs', tenant]}),
  });
}

/** All results of a batch, page by page: for export. */
export async function fetchBatchResults(tenant: string, id: number): Promise<Schemas['BatchResult'][]> {
  const out: Schemas['BatchResult'][] = [];
  let cursor: string | undefined;
  do {
    const page = await unwrap(
      api.GET('/api/v1/tenants/{tenant}/batches/{id}/results', {
        params: {path: {tenant, id}, query: {cursor, limit: 1000}},
      }),
    );
    out.push(...page.items);
    cursor = page.next ?? undefined;
  } while (cursor);
  return out;
}

const auditSettingsQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['audit-settings', tenant],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/audit-settings', {params: {path: {tenant}}, signal})),
  });
export const useAuditSettings = (tenant: string) => useQuery(auditSettingsQuery(tenant));

export function useSaveAuditSettings(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['AuditSettings']) =>
      unwrap(api.PUT('/api/v1/tenants/{tenant}/audit-settings', {params: {path: {tenant}}, body})),
    onSuccess: (saved) => queries.setQueryData(['audit-settings', tenant], saved),
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
