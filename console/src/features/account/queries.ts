/** Queries and changes of the account of whoever is signed in. */
import {queryOptions, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, unwrapItems, type Schemas} from '../../api/client';
import {makePasskey} from '../session/passkeys';

const sessionsQuery = queryOptions({
  queryKey: ['sessions'],
  queryFn: ({signal}) => unwrapItems(api.GET('/api/v1/sessions', {signal})),
});
export const useSessions = () => useQuery(sessionsQuery);

const secondFactorQuery = queryOptions({
  queryKey: ['second-factor'],
  queryFn: ({signal}) => unwrap(api.GET('/api/v1/session/second-factor', {signal})),
});
export const useSecondFactor = () => useQuery(secondFactorQuery);

/** A change of the account, after which all of it is asked for again. */
function useAccountChange<Sent, Got>(mutationFn: (sent: Sent) => Promise<Got>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn,
    onSuccess: () =>
      Promise.all(
        ['sessions', 'second-factor', 'session', 'tokens', 'passkeys', 'identities'].map((key) =>
          queries.invalidateQueries({queryKey: [key]}),
        ),
      ),
  });
}

export const useEndSession = () =>
  useAccountChange((id: number) => unwrap(api.DELETE('/api/v1/sessions/{id}', {params: {path: {id}}})));
export const useEndOthers = () => useAccountChange(() => unwrap(api.DELETE('/api/v1/sessions')));
export const useNewPassword = () =>
  useAccountChange((body: Schemas['NewPassword']) => unwrap(api.PUT('/api/v1/session/password', {body})));
export const useStartSecondFactor = () => useAccountChange(() => unwrap(api.POST('/api/v1/session/second-factor')));
export const useConfirmSecondFactor = () =>
  useAccountChange((code: string) => unwrap(api.PUT('/api/v1/session/second-factor', {body: {code}})));
export const useRemoveSecondFactor = () =>
  useAccountChange((password: string) => unwrap(api.POST('/api/v1/session/second-factor/removal', {body: {password}})));
export const useNewCodes = () =>
  useAccountChange((code: string) => unwrap(api.POST('/api/v1/session/second-factor/recovery-codes', {body: {code}})));
export const useCheckSecondFactor = () =>
  useAccountChange((code: string) => unwrap(api.POST('/api/v1/session/second-factor/check', {body: {code}})));

const passkeysQuery = queryOptions({
  queryKey: ['passkeys'],
  queryFn: ({signal}) => unwrapItems(api.GET('/api/v1/passkeys', {signal})),
});
export const usePasskeys = () => useQuery(passkeysQuery);
export const useAddPasskey = () =>
  useAccountChange(async ({name, password}: {name: string; password: string}) => {
    const {options} = await unwrap(api.POST('/api/v1/passkeys/options', {body: {password}}));
    const credential = await makePasskey(options);
    return unwrap(api.POST('/api/v1/passkeys', {body: {name, credential}}));
  });
export const useDeletePasskey = () =>
  useAccountChange((id: number) => unwrap(api.DELETE('/api/v1/passkeys/{id}', {params: {path: {id}}})));

const identitiesQuery = queryOptions({
  queryKey: ['identities'],
  queryFn: ({signal}) => unwrapItems(api.GET('/api/v1/identities', {signal})),
});
export const useIdentities = () => useQuery(identitiesQuery);
export const useUnlink = () =>
  useAccountChange((id: number) => unwrap(api.DELETE('/api/v1/identities/{id}', {params: {path: {id}}})));
