/** Queries and changes of verifiers and new recipients. A key begins with the resource's name. */
import {useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, unwrapItems, type Schemas} from '../../api/client';

const VERIFIERS = '/api/v1/tenants/{tenant}/verifiers' as const;
const VERIFIER = `${VERIFIERS}/{name}` as const;
const SETTINGS = '/api/v1/tenants/{tenant}/verification-settings' as const;
const SOURCES = '/api/v1/tenants/{tenant}/recipient-sources' as const;
const key = (tenant: string, ...rest: unknown[]) => ['verification', tenant, ...rest];
const of = (tenant: string) => ({path: {tenant}});

export const useVerifiers = (tenant: string) =>
  useQuery({
    queryKey: key(tenant, 'verifiers'),
    queryFn: ({signal}) => unwrapItems(api.GET(VERIFIERS, {params: of(tenant), signal})),
  });

export const useVerificationSettings = (tenant: string) =>
  useQuery({
    queryKey: key(tenant, 'settings'),
    queryFn: ({signal}) => unwrap(api.GET(SETTINGS, {params: of(tenant), signal})),
  });

export const useGauge = (tenant: string, days: number) =>
  useQuery({
    queryKey: key(tenant, 'gauge', days),
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/verification-gauge', {params: {...of(tenant), query: {days}}, signal})),
  });

export const useDisagreements = (tenant: string) =>
  useQuery({
    queryKey: key(tenant, 'disagreements'),
    queryFn: ({signal}) =>
      unwrapItems(api.GET('/api/v1/tenants/{tenant}/verification-disagreements', {params: of(tenant), signal})),
  });

export const useNewRecipients = (tenant: string) =>
  useQuery({
    queryKey: key(tenant, 'new'),
    queryFn: ({signal}) =>
      unwrapItems(api.GET('/api/v1/tenants/{tenant}/new-recipients', {params: of(tenant), signal})),
    refetchInterval: (query) => (query.state.data?.some((each) => !each.checked_at) ? 2000 : false),
  });

/** Sources with their keys, which a viewer may not see. */
export const useSources = (tenant: string, may: boolean) =>
  useQuery({
    enabled: may,
    queryKey: key(tenant, 'sources'),
    queryFn: ({signal}) => unwrapItems(api.GET(SOURCES, {params: of(tenant), signal})),
  });

/** Does something, and reads everything about the tenant's verifiers again. */
function useChange<In, Out>(tenant: string, mutationFn: (given: In) => Promise<Out>) {
  const client = useQueryClient();
  return useMutation({mutationFn, onSuccess: () => client.invalidateQueries({queryKey: key(tenant)})});
}

export const useAddVerifier = (tenant: string) =>
  useChange(tenant, (body: Schemas['NewVerifier']) => unwrap(api.POST(VERIFIERS, {params: of(tenant), body})));

export const useChangeVerifier = (tenant: string) =>
  useChange(tenant, ({name, ...body}: Schemas['VerifierChange'] & {name: string}) =>
    unwrap(api.PATCH(VERIFIER, {params: {path: {tenant, name}}, body})),
  );

export const useDeleteVerifier = (tenant: string) =>
  useChange(tenant, (name: string) => unwrap(api.DELETE(VERIFIER, {params: {path: {tenant, name}}})));

export const useTryVerifier = (tenant: string) =>
  useMutation({
    mutationFn: (body: Partial<Schemas['VerifierDryRun']>) =>
      unwrap(api.POST(`${VERIFIERS}/try`, {params: of(tenant), body: body as never})),
  });

export const useSaveVerification = (tenant: string) =>
  useChange(tenant, (body: Schemas['VerificationSettings']) => unwrap(api.PUT(SETTINGS, {params: of(tenant), body})));

export const useVerify = (tenant: string) =>
  useChange(tenant, (addresses: string[]) =>
    unwrapItems(
      api.POST('/api/v1/tenants/{tenant}/address-verifications', {
        params: of(tenant),
        body: {addresses, probe: false},
      }),
    ),
  );

export const useAddSource = (tenant: string) =>
  useChange(tenant, (body: Schemas['NewRecipientSource']) => unwrap(api.POST(SOURCES, {params: of(tenant), body})));

export const useDeleteSource = (tenant: string) =>
  useChange(tenant, (name: string) => unwrap(api.DELETE(`${SOURCES}/{name}`, {params: {path: {tenant, name}}})));
