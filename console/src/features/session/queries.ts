/** Queries and changes of session. A key begins with the resource's name, so that a change refreshes all that shows it. */
import {queryOptions, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
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
