/** What whoever is signed in has set for themselves: time zone, saved views, how tables are shown. */
import {queryOptions, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, type Schemas} from '../../api/client';

export type Preferences = Required<Schemas['Preferences']>;
const USUAL: Preferences = {time_zone: 'UTC', views: [], tables: {}};

const preferencesQuery = queryOptions({
  queryKey: ['preferences'],
  queryFn: async ({signal}) => ({...USUAL, ...(await unwrap(api.GET('/api/v1/session/preferences', {signal})))}),
  staleTime: Infinity,
  retry: false,
});

/** The preferences; the usual ones while they are not known. */
export function usePreferences() {
  const found = useQuery(preferencesQuery);
  return {preferences: found.data ?? USUAL, isPending: found.isPending};
}

/** Changes some of the preferences: shown at once, and as before where the service does not take it. */
export function useSetPreferences() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async (change: Partial<Preferences>) => {
      const now = await queries.ensureQueryData(preferencesQuery);
      const next = {...now, ...change};
      queries.setQueryData(preferencesQuery.queryKey, next);
      try {
        return await unwrap(api.PUT('/api/v1/session/preferences', {body: next}));
      } catch (error) {
        queries.setQueryData(preferencesQuery.queryKey, now);
        throw error;
      }
    },
  });
}
