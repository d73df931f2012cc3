/** Queries and changes of a tenant's people, its settings and its audit log. */
import {queryOptions, useInfiniteQuery, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, unwrapItems, type Schemas} from '../../api/client';

const membersQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['members', tenant],
    queryFn: ({signal}) => unwrapItems(api.GET('/api/v1/tenants/{tenant}/members', {params: {path: {tenant}}, signal})),
  });
export const useMembers = (tenant: string) => useQuery(membersQuery(tenant));

export const useInvitations = (tenant: string, enabled: boolean) =>
  useQuery({
    queryKey: ['invitations', tenant],
    queryFn: ({signal}) =>
      unwrapItems(api.GET('/api/v1/tenants/{tenant}/invitations', {params: {path: {tenant}}, signal})),
    enabled,
  });

export const useTenantSettings = (tenant: string) =>
  useQuery({
    queryKey: ['tenant-settings', tenant],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/tenants/{tenant}/settings', {params: {path: {tenant}}, signal})),
  });

/** A change of people, after which everything about them is asked for again. */
function usePeopleChange<Sent, Got>(tenant: string, mutationFn: (sent: Sent) => Promise<Got>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn,
    onSettled: () =>
      Promise.all(
        [['members', tenant], ['invitations', tenant], ['tenant-settings', tenant], ['session'], ['audit-log']].map(
          (queryKey) => queries.invalidateQueries({queryKey}),
        ),
      ),
  });
}

export const useInvite = (tenant: string) =>
  usePeopleChange(tenant, (body: {email: string; role: Schemas['Member']['role']}) =>
    unwrap(api.POST('/api/v1/tenants/{tenant}/invitations', {params: {path: {tenant}}, body: {...body, relay: ''}})),
  );
export const useWithdraw = (tenant: string) =>
  usePeopleChange(tenant, (id: number) =>
    unwrap(api.DELETE('/api/v1/tenants/{tenant}/invitations/{id}', {params: {path: {tenant, id}}})),
  );
export const useChangeRole = (tenant: string) =>
  usePeopleChange(tenant, ({email, role}: {email: string; role: Schemas['Member']['role']}) =>
    unwrap(api.PUT('/api/v1/tenants/{tenant}/members/{email}', {params: {path: {tenant, email}}, body: {role}})),
  );
export const useRemoveMember = (tenant: string) =>
  usePeopleChange(tenant, (email: string) =>
    unwrap(api.DELETE('/api/v1/tenants/{tenant}/members/{email}', {params: {path: {tenant, email}}})),
  );
export const useSetTenantSettings = (tenant: string) =>
  usePeopleChange(tenant, (body: Schemas['TenantSettings']) =>
    unwrap(api.PUT('/api/v1/tenants/{tenant}/settings', {params: {path: {tenant}}, body})),
  );

export interface AuditFilter {
  account: string;
  action: string;
  text: string;
}

/** Who did what; of the whole installation without a tenant. */
export const useAuditLog = (tenant: string | undefined, filter: AuditFilter) =>
  useInfiniteQuery({
    queryKey: ['audit-log', tenant ?? '(installation)', filter],
    queryFn: ({signal, pageParam}) => {
      const query = {...filter, limit: 50, ...(pageParam ? {cursor: pageParam} : {})};
      return tenant
        ? unwrap(api.GET('/api/v1/tenants/{tenant}/audit-log', {params: {path: {tenant}, query}, signal}))
        : unwrap(api.GET('/api/v1/installation/audit-log', {params: {query}, signal}));
    },
    initialPageParam: '',
    getNextPageParam: (page) => page.next ?? undefined,
  });
