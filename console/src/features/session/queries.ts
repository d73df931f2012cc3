/** Queries and changes of session. A key begins with the resource's name, so that a change refreshes all that shows it. */
import {queryOptions, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {signWithPasskey} from './passkeys';
import {api, ProblemError, unwrap, type Schemas} from '../../api/client';

export const sessionQuery = queryOptions({
  queryKey: ['session'],
  queryFn: ({signal}) => unwrap(api.GET('/api/v1/session', {signal})),
  retry: false,
  staleTime: Infinity,
});

export const useSession = () => useQuery(sessionQuery);

/** Signing in, and accepting an invitation: both end with a session. */
export function useSignIn() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: {email: string; password: string; code: string}) => unwrap(api.POST('/api/v1/session', {body})),
    onSuccess: (who) => queries.setQueryData(sessionQuery.queryKey, who),
  });
}

export const useSignInOptions = () =>
  useQuery({
    queryKey: ['sign-in-options'],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/session/options', {signal})),
    staleTime: Infinity,
  });

export function usePasskeySignIn() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async () => {
      const {options} = await unwrap(api.POST('/api/v1/session/passkey-options'));
      const credential = await signWithPasskey(options);
      return unwrap(api.POST('/api/v1/session/passkey', {body: {credential}}));
    },
    onSuccess: (who) => queries.setQueryData(sessionQuery.queryKey, who),
  });
}

/** The address that sends the browser to an issuer, and from there to a page of the console. */
export const issuerAddress = (name: string, page: string, link = false) =>
  `/api/v1/session/issuers/${encodeURIComponent(name)}?${new URLSearchParams({page, ...(link && {link: 'true'})})}`;

/** Why signing in at an issuer failed, as the service wrote it into the address. */
const FAILED: Record<string, string> = {
  'no-account':
    'No account here is linked to yours there. Sign in with your password and link it under Settings, Account; or ask for an invitation.',
  'issuer-failed': 'Signing in there failed or took too long. Try again, or sign in with your password.',
  'already-there': 'That account is linked to another account here.',
};
export function issuerProblem(search: string): string {
  const problem = new URLSearchParams(search).get('problem');
  return problem === null ? '' : (FAILED[problem] ?? '');
}

export const useInvitation = (secret: string) =>
  useQuery({
    queryKey: ['invitation', secret],
    queryFn: () => unwrap(api.POST('/api/v1/invitations/view', {body: {secret}})),
    enabled: secret !== '',
    retry: false,
  });

export function useAccept() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['Acceptance']) => unwrap(api.POST('/api/v1/invitations/acceptance', {body})),
    onSuccess: (who) => queries.setQueryData(sessionQuery.queryKey, who),
  });
}

const isProblem = (error: unknown, ...types: string[]) =>
  error instanceof ProblemError && types.some((type) => error.problem.type === `/problems/${type}`);
/** The password was right, and a code is required: no mistake was made yet. */
export const codeRequired = (error: unknown) => isProblem(error, 'code-required');
export const asksForCode = (error: unknown) => isProblem(error, 'code-required', 'wrong-code');
