/** Queries and changes of the whole installation, for its owners. */
import {queryOptions, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, unwrapItems, type Schemas} from '../../api/client';

const tenantsQuery = queryOptions({
  queryKey: ['installation', 'tenants'],
  queryFn: ({signal}) => unwrapItems(api.GET('/api/v1/installation/tenants', {signal})),
});
export const useTenants = () => useQuery(tenantsQuery);

const peopleQuery = queryOptions({
  queryKey: ['installation', 'people'],
  queryFn: ({signal}) => unwrapItems(api.GET('/api/v1/installation/people', {signal})),
});
export const usePeople = () => useQuery(peopleQuery);

const assignmentsQuery = queryOptions({
  queryKey: ['installation', 'assignments'],
  queryFn: ({signal}) => unwrapItems(api.GET('/api/v1/installation/assignments', {signal})),
});
export const useAssignments = () => useQuery(assignmentsQuery);

export const useChainCheck = () =>
  useMutation({mutationFn: () => unwrap(api.GET('/api/v1/installation/audit-log/check'))});

/** A change of the installation, after which all of it is asked for again. */
function useInstallationChange<Sent, Got>(mutationFn: (sent: Sent) => Promise<Got>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn,
    onSettled: () =>
      Promise.all(['installation', 'session', 'audit-log'].map((key) => queries.invalidateQueries({queryKey: [key]}))),
  });
}

export const useAddTenant = () =>
  useInstallationChange((body: Schemas['NewTenant']) => unwrap(api.POST('/api/v1/installation/tenants', {body})));
export const useDeleteTenant = () =>
  useInstallationChange((slug: string) =>
    unwrap(api.DELETE('/api/v1/installation/tenants/{slug}', {params: {path: {slug}, query: {confirm: slug}}})),
  );
export const useInviteOwner = () =>
  useInstallationChange((email: string) =>
    unwrap(api.POST('/api/v1/installation/invitations', {body: {email, role: 'admin', relay: ''}})),
  );
export const useChangeOwner = () =>
  useInstallationChange(({email, is_owner}: {email: string; is_owner: boolean}) =>
    unwrap(api.PUT('/api/v1/installation/people/{email}', {params: {path: {email}}, body: {is_owner}})),
  );
export const useDeletePerson = () =>
  useInstallationChange((email: string) =>
    unwrap(api.DELETE('/api/v1/installation/people/{email}', {params: {path: {email}}})),
  );
export const useResetSecondFactor = () =>
  useInstallationChange((email: string) =>
    unwrap(api.POST('/api/v1/installation/people/{email}/second-factor-reset', {params: {path: {email}}})),
  );
export const useAssign = () =>
  useInstallationChange((body: Schemas['NewAssignment']) =>
    unwrap(api.POST('/api/v1/installation/assignments', {body})),
  );
export const useUnassign = () =>
  useInstallationChange(({kind, value}: {kind: Schemas['Assignment']['kind']; value: string}) =>
    unwrap(api.DELETE('/api/v1/installation/assignments', {params: {query: {kind, value}}})),
  );
