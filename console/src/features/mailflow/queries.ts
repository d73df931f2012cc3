/** Queries and changes of mailflow. A key begins with the resource's name, so that a change refreshes all that shows it. */
import {queryOptions, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, type Schemas, unwrapItems} from '../../api/client';

const flowQuery = (tenant: string, first: string, which: Which = {}) =>
  queryOptions({
    queryKey: ['flow', tenant, first, which],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/flow', {params: {path: {tenant}, query: {...which, first}}, signal})),
    placeholderData: (previous) => previous,
    retry: false,
  });
export const useFlow = (tenant: string, first: string, which: Which = {}) => useQuery(flowQuery(tenant, first, which));

/** Which mail: by domain, stream, relay; or by one of sending address, campaign, tag. */
export interface Which {
  domain?: string;
  stream?: string;
  relay?: string;
  ip?: string;
  campaign?: string;
  tag?: string;
}

const flowNamesQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['flow-names', tenant],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/tenants/{tenant}/flow/names', {params: {path: {tenant}}, signal})),
  });
export const useFlowNames = (tenant: string) => useQuery(flowNamesQuery(tenant));

const causesQuery = (tenant: string, first: string, which: Which) =>
  queryOptions({
    queryKey: ['causes', tenant, first, which],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/flow/causes', {params: {path: {tenant}, query: {...which, first}}, signal}),
      ),
    placeholderData: (previous) => previous,
  });
export const useCauses = (tenant: string, first: string, which: Which) => useQuery(causesQuery(tenant, first, which));

const wordingsQuery = (tenant: string, first: string, cause?: Schemas['Event']['cause']) =>
  queryOptions({
    queryKey: ['reply_patterns', tenant, first, cause ?? ''],
    queryFn: ({signal}) =>
      unwrapItems(
        api.GET('/api/v1/tenants/{tenant}/reply-patterns', {
          params: {path: {tenant}, query: {first, cause, limit: 100}},
          signal,
        }),
      ),
    placeholderData: (previous) => previous,
  });
export const useReplyPatterns = (tenant: string, first: string, cause?: Schemas['Event']['cause']) =>
  useQuery(wordingsQuery(tenant, first, cause));

const comparisonOfFlowQuery = (tenant: string, first: string, which: Which, other: Which) =>
  queryOptions({
    queryKey: ['flow-comparison', tenant, first, which, other],
    enabled: Object.values(other).some(Boolean),
    queryFn: ({signal}) => {
      const query = {
        ...which,
        first,
        other_domain: other.domain,
        other_stream: other.stream,
        other_relay: other.relay,
        other_ip: other.ip,
        other_campaign: other.campaign,
        other_tag: other.tag,
      };
      return unwrap(api.GET('/api/v1/tenants/{tenant}/flow/comparison', {params: {path: {tenant}, query}, signal}));
    },
    retry: false,
  });
export const useComparisonOfFlow = (tenant: string, first: string, which: Which, other: Which) =>
  useQuery(comparisonOfFlowQuery(tenant, first, which, other));

export interface TrailSearch {
  recipient?: string;
  message_id?: string;
  reply?: string;
  kind?: Schemas['Event']['kind'][];
  cause?: Schemas['Event']['cause'][];
  provider?: string;
  relay?: string;
  stream?: string;
  ip?: string;
  since?: string;
  until?: string;
  domain?: string;
}

const trailQuery = (tenant: string, search: TrailSearch, live: boolean) =>
  queryOptions({
    queryKey: ['events', tenant, search],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/events', {
          params: {path: {tenant}, query: {...search, limit: 200}},
          signal,
        }),
      ),
    refetchInterval: live ? 2_000 : false,
    placeholderData: (previous) => previous,
    retry: false,
  });
export const useTrail = (tenant: string, search: TrailSearch, live: boolean) =>
  useQuery(trailQuery(tenant, search, live));

const feedsQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['feeds', tenant],
    queryFn: ({signal}) => unwrapItems(api.GET('/api/v1/tenants/{tenant}/feeds', {params: {path: {tenant}}, signal})),
    refetchInterval: 10_000,
  });
export const useFeeds = (tenant: string) => useQuery(feedsQuery(tenant));

const refusedQuery = (tenant: string, name: string) =>
  queryOptions({
    queryKey: ['feeds', tenant, name, 'refused'],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/feeds/{name}/rejected-rows', {params: {path: {tenant, name}}, signal})),
  });
export const useRefused = (tenant: string, name: string) => useQuery(refusedQuery(tenant, name));

/** A change of feeds, after which all of them are asked for again. */
function useFeedChange<Sent, Got>(tenant: string, mutationFn: (sent: Sent) => Promise<Got>) {
  const queries = useQueryClient();
  return useMutation({mutationFn, onSettled: () => queries.invalidateQueries({queryKey: ['feeds', tenant]})});
}

export const useAddFeed = (tenant: string) =>
  useFeedChange(tenant, (body: Schemas['NewFeed']) =>
    unwrap(api.POST('/api/v1/tenants/{tenant}/feeds', {params: {path: {tenant}}, body})),
  );

export const useChangeFeed = (tenant: string) =>
  useFeedChange(tenant, ({name, body}: {name: string; body: Schemas['FeedChange']}) =>
    unwrap(api.PATCH('/api/v1/tenants/{tenant}/feeds/{name}', {params: {path: {tenant, name}}, body})),
  );

export const useDropFeed = (tenant: string) =>
  useFeedChange(tenant, (name: string) =>
    unwrap(api.DELETE('/api/v1/tenants/{tenant}/feeds/{name}', {params: {path: {tenant, name}}})),
  );

export const useReplayRefused = (tenant: string) =>
  useFeedChange(tenant, (name: string) =>
    unwrap(api.POST('/api/v1/tenants/{tenant}/feeds/{name}/rejected-rows/replay', {params: {path: {tenant, name}}})),
  );

export const useHandToFeed = (tenant: string) =>
  useFeedChange(tenant, ({name, body, type}: {name: string; body: string; type: string}) =>
    unwrap(
      api.POST('/api/v1/tenants/{tenant}/feeds/{name}/events', {
        params: {path: {tenant, name}},
        body: body as never,
        bodySerializer: (text: unknown) => text as string,
        headers: {'Content-Type': type},
      }),
    ),
  );

export const useMappingTrial = (tenant: string) =>
  useMutation({
    mutationFn: (body: Schemas['MappingDryRun']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/mapping-dry-runs', {params: {path: {tenant}}, body})),
  });

const flowDaysQuery = (tenant: string, first: string, which: Which & {last?: string} = {}) =>
  queryOptions({
    queryKey: ['flow-days', tenant, first, which],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/flow/days', {params: {path: {tenant}, query: {...which, first}}, signal}),
      ),
    placeholderData: (previous) => previous,
    retry: false,
  });
export const useFlowDays = (tenant: string, first: string, which: Which & {last?: string} = {}, enabled = true) =>
  useQuery({...flowDaysQuery(tenant, first, which), enabled});

const shiftsQuery = (tenant: string, days: number) =>
  queryOptions({
    queryKey: ['shifts', tenant, days],
    queryFn: ({signal}) =>
      unwrapItems(api.GET('/api/v1/tenants/{tenant}/shifts', {params: {path: {tenant}, query: {days}}, signal})),
    refetchInterval: 30_000,
  });
export const useShifts = (tenant: string, days: number) => useQuery(shiftsQuery(tenant, days));

const shiftQuery = (tenant: string, id: number) =>
  queryOptions({
    queryKey: ['shifts', tenant, 'one', id],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/shifts/{id}', {params: {path: {tenant, id}}, signal})),
    retry: false,
  });
export const useShift = (tenant: string, id: number) => useQuery(shiftQuery(tenant, id));

/** The rules; asked for again and again while the past is judged by them. */
const rulesQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['cause-rules', tenant],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/tenants/{tenant}/cause-rules', {params: {path: {tenant}}, signal})),
    refetchInterval: (query) =>
      ['waiting', 'running'].includes(query.state.data?.application?.state ?? '') ? 1_000 : false,
  });
export const useRules = (tenant: string) => useQuery(rulesQuery(tenant));

export const useRuleTrial = (tenant: string) =>
  useMutation({
    mutationFn: (body: Schemas['RulesBacktestRequest']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/cause-rules/backtests', {params: {path: {tenant}}, body})),
  });

/** A change of the rules, after which what they decide is asked for again. */
function useRulesChange<Sent>(tenant: string, mutationFn: (sent: Sent) => Promise<Schemas['CauseRules']>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn,
    onSuccess: (rules) => queries.setQueryData(['cause-rules', tenant], rules),
    onSettled: () =>
      Promise.all(
        ['cause-rules', 'causes', 'reply_patterns', 'flow'].map((each) =>
          queries.invalidateQueries({queryKey: [each, tenant]}),
        ),
      ),
  });
}

export const useKeepRules = (tenant: string) =>
  useRulesChange(tenant, (body: Schemas['RulesChange']) =>
    unwrap(api.PUT('/api/v1/tenants/{tenant}/cause-rules', {params: {path: {tenant}}, body})),
  );

export const useApplyRules = (tenant: string) =>
  useRulesChange<void>(tenant, () =>
    unwrap(api.POST('/api/v1/tenants/{tenant}/cause-rules/application', {params: {path: {tenant}}})),
  );

export const useStopRules = (tenant: string) =>
  useRulesChange<void>(tenant, () =>
    unwrap(api.DELETE('/api/v1/tenants/{tenant}/cause-rules/application', {params: {path: {tenant}}})),
  );

const flowSettingsQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['flow-settings', tenant],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/flow-settings', {params: {path: {tenant}}, signal})),
  });
export const useFlowSettings = (tenant: string) => useQuery(flowSettingsQuery(tenant));

export function useChangeFlowSettings(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['FlowSettings']) =>
      unwrap(api.PUT('/api/v1/tenants/{tenant}/flow-settings', {params: {path: {tenant}}, body})),
    onSuccess: (kept) => queries.setQueryData(['flow-settings', tenant], kept),
  });
}

export const useRecipientData = (tenant: string) =>
  useMutation({
    mutationFn: (address: string) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/recipient-data', {params: {path: {tenant}, query: {address}}})),
  });

const erasuresQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['erasures', tenant],
    queryFn: ({signal}) =>
      unwrapItems(api.GET('/api/v1/tenants/{tenant}/erasures', {params: {path: {tenant}}, signal})),
  });
export const useErasures = (tenant: string) => useQuery(erasuresQuery(tenant));

export function useErase(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['ErasureRequest']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/erasures', {params: {path: {tenant}}, body})),
    onSettled: () => queries.invalidateQueries(),
  });
}

const providersQuery = (tenant: string) =>
  queryOptions({
    queryKey: ['providers', tenant],
    queryFn: ({signal}) =>
      unwrapItems(api.GET('/api/v1/tenants/{tenant}/providers', {params: {path: {tenant}}, signal})),
    staleTime: 300_000,
  });
export const useProviders = (tenant: string) => useQuery(providersQuery(tenant));
