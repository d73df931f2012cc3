/** Queries by resource. A key begins with the resource's name, so that a change can refresh all that shows it. */
import {queryOptions, useInfiniteQuery, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, type Schemas} from './client';

export const sessionQuery = queryOptions({
  queryKey: ['session'],
  queryFn: ({signal}) => unwrap(api.GET('/api/v1/session', {signal})),
  retry: false,
  staleTime: Infinity,
});
export const useSession = () => useQuery(sessionQuery);

export type Subject = Schemas['ReadingSeries']['subject'];
const wallQuery = (days: number, tenant?: string, subject: Subject = 'domain', last = '') =>
  queryOptions({
    queryKey: ['wall', days, tenant ?? '', subject, last],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/wall', {params: {query: {days, tenant, subject, last: last || undefined}}, signal})),
    refetchInterval: 60_000,
  });
export const useWall = (days: number, tenant?: string, subject: Subject = 'domain', last = '') =>
  useQuery(wallQuery(days, tenant, subject, last));

export const useDomains = (tenant: string) =>
  useQuery({
    queryKey: ['domains', tenant],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/domains', {params: {path: {tenant}, query: {limit: 1000}}, signal})),
  });

export const useNewestAudit = (tenant: string, name: string) =>
  useQuery({
    queryKey: ['audit', tenant, name],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/domains/{name}/audits/newest', {params: {path: {tenant, name}}, signal}),
      ),
    retry: false,
  });

/** A subject of readings, at one provider or over all of them. */
export interface Subjected {
  subject: Subject;
  name: string;
  provider: string;
}
const asked = ({subject, name, provider}: Subjected) => ({subject, name, provider});

export const useReadings = (tenant: string, of: Subjected, first: string) =>
  useQuery({
    queryKey: ['readings', tenant, of, first],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/readings', {params: {path: {tenant}, query: {...asked(of), first}}, signal}),
      ),
    placeholderData: (previous) => previous,
  });

export const useMoved = (tenant: string, of: Subjected, first: string, last: string) =>
  useQuery({
    queryKey: ['readings', tenant, 'moved', of, first, last],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/readings/moved', {
          params: {path: {tenant}, query: {...asked(of), first, last}},
          signal,
        }),
      ),
    placeholderData: (previous) => previous,
    retry: false,
  });

export const useRoom = (tenant: string, subject: Subject, name: string) =>
  useQuery({
    queryKey: ['readings', tenant, 'room', subject, name],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/readings/room', {params: {path: {tenant}, query: {subject, name}}, signal}),
      ),
    retry: false,
  });

export const useAhead = (tenant: string, of: Subjected, wanted: Schemas['Ahead']) =>
  useQuery({
    queryKey: ['readings', tenant, 'ahead', of, wanted],
    queryFn: ({signal}) =>
      unwrap(
        api.POST('/api/v1/tenants/{tenant}/readings/ahead', {
          params: {path: {tenant}, query: asked(of)},
          body: wanted,
          signal,
        }),
      ),
    placeholderData: (previous) => previous,
    retry: false,
  });

export const useWorklist = (tenant: string, state = '', assigned = '', on = '') =>
  useQuery({
    queryKey: ['worklist', tenant, state, assigned, on],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/worklist', {
          params: {
            query: {
              tenant: tenant || undefined,
              state: state ? [state as Schemas['WorkItem']['state']] : undefined,
              assigned_to: assigned || undefined,
              on: on || undefined,
            },
          },
          signal,
        }),
      ),
    refetchInterval: 60_000,
    placeholderData: (previous) => previous,
  });

export const useWorkItem = (tenant: string, id: number) =>
  useQuery({
    queryKey: ['worklist', tenant, 'item', id],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/worklist/{id}', {params: {path: {tenant, id}}, signal})),
    retry: false,
  });

export const usePeople = (tenant: string) =>
  useQuery({
    queryKey: ['people', tenant],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/tenants/{tenant}/people', {params: {path: {tenant}}, signal})),
    staleTime: 600_000,
  });

export const useActOnWork = (tenant: string, id: number) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['WorkAct']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/worklist/{id}', {params: {path: {tenant, id}}, body})),
    onSuccess: () =>
      Promise.all(
        ['worklist', 'wall', 'audit', 'readings'].map((each) => queries.invalidateQueries({queryKey: [each]})),
      ),
  });
};

export const useLookForWork = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (tenant: string) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/worklist-look', {params: {path: {tenant}}})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['worklist']}),
  });
};

export const useAlertSettings = (tenant: string) =>
  useQuery({
    queryKey: ['alerts', tenant],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/alert-settings', {params: {path: {tenant}}, signal})),
  });

export const usePutAlertSettings = (tenant: string) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['AlertSettings']) =>
      unwrap(api.PUT('/api/v1/tenants/{tenant}/alert-settings', {params: {path: {tenant}}, body})),
    onSuccess: (kept) => queries.setQueryData(['alerts', tenant], kept),
  });
};

export const useTold = (tenant: string) =>
  useQuery({
    queryKey: ['told', tenant],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/tenants/{tenant}/told', {params: {path: {tenant}}, signal})),
    refetchInterval: 30_000,
  });

export const useBrakes = (tenant: string) =>
  useQuery({
    queryKey: ['brakes', tenant],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/tenants/{tenant}/brakes', {params: {path: {tenant}}, signal})),
  });

export const usePutBrake = (tenant: string) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['BrakeRelease']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/brakes', {params: {path: {tenant}}, body})),
    onSuccess: (found) => queries.setQueryData(['brakes', tenant], found),
  });
};

export const useReleaseBrake = (tenant: string) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['BrakeRelease']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/brakes/releases', {params: {path: {tenant}}, body})),
    onSuccess: (found) => queries.setQueryData(['brakes', tenant], found),
  });
};

export const useLines = (tenant: string) =>
  useQuery({
    queryKey: ['lines', tenant],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/tenants/{tenant}/lines', {params: {path: {tenant}}, signal})),
  });

export const useMarks = (tenant: string, first: string, domain?: string) =>
  useQuery({
    queryKey: ['marks', tenant, first, domain ?? ''],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/marks', {params: {path: {tenant}, query: {first, domain}}, signal})),
    placeholderData: (previous) => previous,
  });

export const useAddMark = (tenant: string) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['NewMark']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/marks', {params: {path: {tenant}}, body})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['marks', tenant]}),
  });
};

export const useDropMark = (tenant: string) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (id: number) =>
      unwrap(api.DELETE('/api/v1/tenants/{tenant}/marks/{id}', {params: {path: {tenant, id}}})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['marks', tenant]}),
  });
};

export const useFlow = (tenant: string, first: string, which: Which = {}) =>
  useQuery({
    queryKey: ['flow', tenant, first, which],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/flow', {params: {path: {tenant}, query: {...which, first}}, signal})),
    placeholderData: (previous) => previous,
    retry: false,
  });

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

export const useDomain = (tenant: string, name: string) =>
  useQuery({
    queryKey: ['domains', tenant, name],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/domains/{name}', {params: {path: {tenant, name}}, signal})),
  });

export function useChangeDomain(tenant: string, name: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['DomainChange']) =>
      unwrap(api.PATCH('/api/v1/tenants/{tenant}/domains/{name}', {params: {path: {tenant, name}}, body})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['domains', tenant]}),
  });
}

export const useAudits = (tenant: string, name: string) =>
  useQuery({
    queryKey: ['audits', tenant, name],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/domains/{name}/audits', {params: {path: {tenant, name}}, signal})),
  });

export const useHistory = (tenant: string, name: string) =>
  useQuery({
    queryKey: ['history', tenant, name],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/domains/{name}/history', {params: {path: {tenant, name}}, signal})),
  });

export const useComparison = (tenant: string, name: string, before?: number, after?: number) =>
  useQuery({
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

export const useSpfTrial = (tenant: string) =>
  useMutation({
    mutationFn: (body: Schemas['SpfTrialRequest']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/spf-trials', {params: {path: {tenant}}, body})),
  });

export const useMessageCheck = (tenant: string) =>
  useMutation({
    mutationFn: ({message, ...query}: {message: string; ip: string; mail_from: string}) =>
      unwrap(
        api.POST('/api/v1/tenants/{tenant}/message-checks', {
          params: {path: {tenant}, query},
          body: message,
          bodySerializer: (body: string) => body,
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

export const useAuditSettings = (tenant: string) =>
  useQuery({
    queryKey: ['audit-settings', tenant],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/audit-settings', {params: {path: {tenant}}, signal})),
  });

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

// Suppression

export interface Listed {
  text?: string;
  state?: Schemas['SuppressionEntry']['state'][];
  reason?: Schemas['SuppressionEntry']['reason'][];
  came_back?: boolean;
  ends_within_days?: number;
}
const named = (listed: Listed) => ({
  ...listed,
  text: listed.text || undefined,
  came_back: listed.came_back || undefined,
});

export const useSuppression = (tenant: string, listed: Listed) =>
  useInfiniteQuery({
    queryKey: ['suppression', tenant, 'list', listed],
    queryFn: ({pageParam, signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/suppression', {
          params: {path: {tenant}, query: {limit: 100, cursor: pageParam || undefined, ...named(listed)}},
          signal,
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (page) => page.next ?? undefined,
    retry: false,
    placeholderData: (previous) => previous,
  });

export const useSuppressionCount = (tenant: string, listed: Listed) =>
  useQuery({
    queryKey: ['suppression', tenant, 'count', listed],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/suppression/count', {params: {path: {tenant}, query: named(listed)}, signal}),
      ),
    placeholderData: (previous) => previous,
  });

export const useAddressStatus = (tenant: string, address: string) =>
  useQuery({
    queryKey: ['suppression', tenant, 'status', address],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/suppression/status', {params: {path: {tenant}, query: {address}}, signal}),
      ),
    enabled: address !== '',
    retry: false,
  });

export const useGrowth = (tenant: string, first: string) =>
  useQuery({
    queryKey: ['suppression', tenant, 'growth', first],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/suppression/growth', {params: {path: {tenant}, query: {first}}, signal}),
      ),
    placeholderData: (previous) => previous,
  });

function useListChange<Body, Result>(tenant: string, call: (body: Body) => Promise<Result>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: call,
    onSuccess: () => void queries.invalidateQueries({queryKey: ['suppression', tenant]}),
  });
}

export const useHold = (tenant: string) =>
  useListChange(tenant, (body: Schemas['NewEntries']) =>
    unwrap(api.POST('/api/v1/tenants/{tenant}/suppression', {params: {path: {tenant}}, body})),
  );
export const useLift = (tenant: string) =>
  useListChange(tenant, (body: Schemas['Lift']) =>
    unwrap(api.POST('/api/v1/tenants/{tenant}/suppression/lifts', {params: {path: {tenant}}, body})),
  );
export const useDecide = (tenant: string) =>
  useListChange(tenant, (body: Schemas['Decision']) =>
    unwrap(api.POST('/api/v1/tenants/{tenant}/suppression/decisions', {params: {path: {tenant}}, body})),
  );

export const useClearance = (tenant: string) =>
  useMutation({
    mutationFn: (body: Schemas['ClearanceRequest']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/clearance', {params: {path: {tenant}}, body})),
  });

export const useAddressChecks = (tenant: string) =>
  useMutation({
    mutationFn: (body: Schemas['AddressCheckRequest']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/address-checks', {params: {path: {tenant}}, body})),
  });

export const useAddressWords = (tenant: string) =>
  useQuery({
    queryKey: ['address-words', tenant],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/address-words', {params: {path: {tenant}}, signal})),
  });
export function usePutAddressWords(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['AddressWords']) =>
      unwrap(api.PUT('/api/v1/tenants/{tenant}/address-words', {params: {path: {tenant}}, body})),
    onSuccess: (words) => queries.setQueryData(['address-words', tenant], words),
  });
}

export const useSuppressionPolicy = (tenant: string) =>
  useQuery({
    queryKey: ['suppression-policy', tenant],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/suppression/policy', {params: {path: {tenant}}, signal})),
  });
export function usePutPolicy(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['SuppressionPolicy'] | null) =>
      body === null
        ? unwrap(api.DELETE('/api/v1/tenants/{tenant}/suppression/policy', {params: {path: {tenant}}}))
        : unwrap(api.PUT('/api/v1/tenants/{tenant}/suppression/policy', {params: {path: {tenant}}, body})),
    onSuccess: (view) => queries.setQueryData(['suppression-policy', tenant], view),
  });
}
export const useTryPolicy = (tenant: string) =>
  useMutation({
    mutationFn: (body: Schemas['RehearsalRequest']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/suppression/policy/trials', {params: {path: {tenant}}, body})),
  });

const isOver = (job?: Schemas['Job']) => !job || ['done', 'failed', 'stopped', 'collecting'].includes(job.state);

export const useJobs = (tenant: string, kind: Schemas['Job']['kind']) =>
  useQuery({
    queryKey: ['jobs', tenant, kind],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/jobs', {params: {path: {tenant}, query: {kind}}, signal})),
    refetchInterval: (query) => (query.state.data?.every((job) => isOver(job)) === false ? 1000 : false),
  });
export const useJob = (tenant: string, id: number) =>
  useQuery({
    queryKey: ['jobs', tenant, id],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/jobs/{id}', {params: {path: {tenant, id}}, signal})),
    enabled: id > 0,
    refetchInterval: (query) => (isOver(query.state.data) ? false : 700),
  });
export function useRunJob(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({id, dry = false, stop = false}: {id: number; dry?: boolean; stop?: boolean}) =>
      stop
        ? unwrap(api.POST('/api/v1/tenants/{tenant}/jobs/{id}/stop', {params: {path: {tenant, id}}}))
        : unwrap(api.POST('/api/v1/tenants/{tenant}/jobs/{id}/run', {params: {path: {tenant, id}}, body: {dry}})),
    onSuccess: () => {
      void queries.invalidateQueries({queryKey: ['jobs', tenant]});
      void queries.invalidateQueries({queryKey: ['suppression', tenant]});
    },
  });
}
const PIECE = 1024 * 1024;
/** Start a job and hand in its file piece by piece. */
export function useSendList(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async ({
      file,
      kind,
      request,
      told,
    }: {
      file: File;
      kind: 'import' | 'list_check';
      request: Omit<Schemas['ImportRequest'], 'name'>;
      told: (share: number) => void;
    }) => {
      const path = {tenant};
      const job =
        kind === 'import'
          ? await unwrap(
              api.POST('/api/v1/tenants/{tenant}/suppression/imports', {
                params: {path},
                body: {...request, name: file.name},
              }),
            )
          : await unwrap(
              api.POST('/api/v1/tenants/{tenant}/list-checks', {
                params: {path},
                body: {name: file.name} as Schemas['ListCheckRequest'],
              }),
            );
      for (let number = 0; number * PIECE < file.size; number++) {
        const body = await file.slice(number * PIECE, (number + 1) * PIECE).arrayBuffer();
        await unwrap(
          api.PUT('/api/v1/tenants/{tenant}/jobs/{id}/pieces/{number}', {
            params: {path: {tenant, id: job.id, number}},
            body: body as never,
            bodySerializer: (value) => value as never,
            headers: {'Content-Type': 'application/octet-stream'},
          }),
        );
        told(Math.min(1, ((number + 1) * PIECE) / file.size));
      }
      return unwrap(
        api.POST('/api/v1/tenants/{tenant}/jobs/{id}/run', {
          params: {path: {tenant, id: job.id}},
          body: {dry: kind === 'import'},
        }),
      );
    },
    onSettled: () => void queries.invalidateQueries({queryKey: ['jobs', tenant]}),
  });
}

export const useUnsubscribes = (tenant: string, days: number) =>
  useQuery({
    queryKey: ['suppression', tenant, 'unsubscribes', days],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/unsubscribes', {params: {path: {tenant}, query: {days}}, signal})),
    placeholderData: (previous) => previous,
  });

export const useGates = (tenant: string) =>
  useQuery({
    queryKey: ['gates', tenant],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/tenants/{tenant}/gates', {params: {path: {tenant}}, signal})),
  });
export function useChangeGates(tenant: string) {
  const queries = useQueryClient();
  const onSuccess = () => void queries.invalidateQueries({queryKey: ['gates', tenant]});
  const add = useMutation({
    mutationFn: (body: Schemas['NewGate']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/gates', {params: {path: {tenant}}, body})),
    onSuccess,
  });
  const drop = useMutation({
    mutationFn: (id: number) =>
      unwrap(api.DELETE('/api/v1/tenants/{tenant}/gates/{id}', {params: {path: {tenant, id}}})),
    onSuccess,
  });
  return {add, drop};
}

// Relays, record plans and watches

export const useRelays = (tenant: string) =>
  useQuery({
    queryKey: ['relays', tenant],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/tenants/{tenant}/relays', {params: {path: {tenant}}, signal})),
  });

export function useDescribeRelay(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({relay, body}: {relay: string; body: Schemas['RelayDescription']}) =>
      unwrap(api.PUT('/api/v1/tenants/{tenant}/relays/{relay}', {params: {path: {tenant, relay}}, body})),
    onSuccess: () => {
      void queries.invalidateQueries({queryKey: ['relays', tenant]});
      void queries.invalidateQueries({queryKey: ['plan', tenant]});
    },
  });
}

/** The plan beside what is published now: looking is what the page is for. */
export const usePlan = (tenant: string, name: string) =>
  useQuery({
    queryKey: ['plan', tenant, name],
    queryFn: ({signal}) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/domains/{name}/plan/checks', {params: {path: {tenant, name}}, signal})),
    placeholderData: (previous) => previous,
  });

export function usePlanSettings(tenant: string, name: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['PlanSettings']) =>
      unwrap(api.PUT('/api/v1/tenants/{tenant}/domains/{name}/plan/settings', {params: {path: {tenant, name}}, body})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['plan', tenant, name]}),
  });
}

export function useMakeKey(tenant: string, name: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['NewKey']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/domains/{name}/plan/keys', {params: {path: {tenant, name}}, body})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['plan', tenant, name]}),
  });
}

export const useWatches = (tenant: string, name: string) =>
  useQuery({
    queryKey: ['watches', tenant, name],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/domains/{name}/watches', {params: {path: {tenant, name}}, signal})),
    refetchInterval: (query) => (query.state.data?.[0]?.state === 'running' ? 3000 : false),
  });

export function useWatchAction(tenant: string, name: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({id, what}: {id?: number; what: 'start' | 'stop' | 'look'}) =>
      id == null
        ? unwrap(
            api.POST('/api/v1/tenants/{tenant}/domains/{name}/watches', {
              params: {path: {tenant, name}},
              body: {keys: [], hours: 48},
            }),
          )
        : what === 'stop'
          ? unwrap(api.POST('/api/v1/tenants/{tenant}/watches/{id}/stop', {params: {path: {tenant, id}}}))
          : unwrap(api.POST('/api/v1/tenants/{tenant}/watches/{id}/look', {params: {path: {tenant, id}}})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['watches', tenant, name]}),
  });
}

// Proofs, and publishing by dynamic update

export const useProofs = (tenant: string) =>
  useQuery({
    queryKey: ['proofs', tenant],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/tenants/{tenant}/proofs', {params: {path: {tenant}}, signal})),
  });

export const useSenders = (tenant: string) =>
  useQuery({
    queryKey: ['proofs', tenant, 'senders'],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/tenants/{tenant}/senders', {params: {path: {tenant}}, signal})),
  });

type ProofAction = {start: Schemas['NewProof']} | {check: number} | {id: number; code: string};

export function useProofAction(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (what: ProofAction) =>
      'start' in what
        ? unwrap(api.POST('/api/v1/tenants/{tenant}/proofs', {params: {path: {tenant}}, body: what.start}))
        : 'check' in what
          ? unwrap(api.POST('/api/v1/tenants/{tenant}/proofs/{id}/check', {params: {path: {tenant, id: what.check}}}))
          : unwrap(
              api.POST('/api/v1/tenants/{tenant}/proofs/{id}/code', {
                params: {path: {tenant, id: what.id}},
                body: {code: what.code},
              }),
            ),
    onSettled: () => {
      void queries.invalidateQueries({queryKey: ['proofs', tenant]});
      void queries.invalidateQueries({queryKey: ['plan', tenant]});
    },
  });
}

export const useUpdateServers = (tenant: string) =>
  useQuery({
    queryKey: ['update-servers', tenant],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/update-servers', {params: {path: {tenant}}, signal})),
  });

export function usePutUpdateServer(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({zone, body}: {zone: string; body: Schemas['NewUpdateServer']}) =>
      unwrap(api.PUT('/api/v1/tenants/{tenant}/update-servers/{zone}', {params: {path: {tenant, zone}}, body})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['update-servers', tenant]}),
  });
}

export const useShowChange = (tenant: string, name: string) =>
  useMutation({
    mutationFn: () =>
      unwrap(
        api.POST('/api/v1/tenants/{tenant}/domains/{name}/plan/changes', {
          params: {path: {tenant, name}},
          body: {keys: [], digest: ''},
        }),
      ),
  });

export const usePublications = (tenant: string, name: string) =>
  useQuery({
    queryKey: ['publications', tenant, name],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/domains/{name}/publications', {params: {path: {tenant, name}}, signal})),
  });

export function usePublish(tenant: string, name: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (what: {digest: string} | {back: number}) =>
      'digest' in what
        ? unwrap(
            api.POST('/api/v1/tenants/{tenant}/domains/{name}/publications', {
              params: {path: {tenant, name}},
              body: {keys: [], digest: what.digest},
            }),
          )
        : unwrap(
            api.POST('/api/v1/tenants/{tenant}/publications/{id}/roll-back', {params: {path: {tenant, id: what.back}}}),
          ),
    onSettled: () => {
      for (const key of ['publications', 'plan']) void queries.invalidateQueries({queryKey: [key, tenant, name]});
    },
  });
}

export const useWebhooks = (tenant: string) =>
  useQuery({
    queryKey: ['webhooks', tenant],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/tenants/{tenant}/webhooks', {params: {path: {tenant}}, signal})),
    refetchInterval: 15_000,
  });

export const useWebhookCalls = (tenant: string, id: number) =>
  useQuery({
    queryKey: ['webhooks', tenant, id],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/webhooks/{id}/calls', {params: {path: {tenant, id}}, signal})),
    refetchInterval: 15_000,
  });

/** A change of webhooks, after which all of them are asked for anew. */
function useWebhookChange<Sent, Got>(tenant: string, mutationFn: (sent: Sent) => Promise<Got>) {
  const queries = useQueryClient();
  return useMutation({mutationFn, onSettled: () => queries.invalidateQueries({queryKey: ['webhooks', tenant]})});
}

export const useAddWebhook = (tenant: string) =>
  useWebhookChange(tenant, (body: Schemas['NewWebhook']) =>
    unwrap(api.POST('/api/v1/tenants/{tenant}/webhooks', {params: {path: {tenant}}, body})),
  );
export const useChangeWebhook = (tenant: string) =>
  useWebhookChange(tenant, ({id, body}: {id: number; body: Schemas['WebhookChange']}) =>
    unwrap(api.PATCH('/api/v1/tenants/{tenant}/webhooks/{id}', {params: {path: {tenant, id}}, body})),
  );
export const useDropWebhook = (tenant: string) =>
  useWebhookChange(tenant, (id: number) =>
    unwrap(api.DELETE('/api/v1/tenants/{tenant}/webhooks/{id}', {params: {path: {tenant, id}}})),
  );
export const useTestWebhook = (tenant: string) =>
  useWebhookChange(tenant, (id: number) =>
    unwrap(api.POST('/api/v1/tenants/{tenant}/webhooks/{id}/test', {params: {path: {tenant, id}}})),
  );
export const useReplayWebhook = (tenant: string) =>
  useWebhookChange(tenant, (id: number) =>
    unwrap(api.POST('/api/v1/tenants/{tenant}/webhooks/{id}/replay', {params: {path: {tenant, id}}})),
  );

export const useTokens = () =>
  useQuery({queryKey: ['tokens'], queryFn: ({signal}) => unwrap(api.GET('/api/v1/tokens', {signal}))});

export function useMakeToken() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['NewToken']) => unwrap(api.POST('/api/v1/tokens', {body})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['tokens']}),
  });
}

export function useDropToken() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (id: number) => unwrap(api.DELETE('/api/v1/tokens/{id}', {params: {path: {id}}})),
    onSuccess: () => queries.invalidateQueries({queryKey: ['tokens']}),
  });
}

/** Which mail: by domain, stream, relay; or by one of sending address, campaign, tag. */
export interface Which {
  domain?: string;
  stream?: string;
  relay?: string;
  ip?: string;
  campaign?: string;
  tag?: string;
}

export const useFlowNames = (tenant: string) =>
  useQuery({
    queryKey: ['flow-names', tenant],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/tenants/{tenant}/flow/names', {params: {path: {tenant}}, signal})),
  });

export const useCauses = (tenant: string, first: string, which: Which) =>
  useQuery({
    queryKey: ['causes', tenant, first, which],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/flow/causes', {params: {path: {tenant}, query: {...which, first}}, signal}),
      ),
    placeholderData: (previous) => previous,
  });

export const useWordings = (tenant: string, first: string, cause?: Schemas['Event']['cause']) =>
  useQuery({
    queryKey: ['wordings', tenant, first, cause ?? ''],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/wordings', {
          params: {path: {tenant}, query: {first, cause, limit: 100}},
          signal,
        }),
      ),
    placeholderData: (previous) => previous,
  });

export const useComparisonOfFlow = (tenant: string, first: string, which: Which, other: Which) =>
  useQuery({
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

export const useTrail = (tenant: string, search: TrailSearch, live: boolean) =>
  useQuery({
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

export const useFeeds = (tenant: string) =>
  useQuery({
    queryKey: ['feeds', tenant],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/tenants/{tenant}/feeds', {params: {path: {tenant}}, signal})),
    refetchInterval: 10_000,
  });

export const useRefused = (tenant: string, name: string) =>
  useQuery({
    queryKey: ['feeds', tenant, name, 'refused'],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/feeds/{name}/refused', {params: {path: {tenant, name}}, signal})),
  });

/** A change of feeds, after which all of them are asked for anew. */
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
    unwrap(api.POST('/api/v1/tenants/{tenant}/feeds/{name}/refused/replay', {params: {path: {tenant, name}}})),
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
    mutationFn: (body: Schemas['MappingTrial']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/mapping-trials', {params: {path: {tenant}}, body})),
  });

export const useFlowDays = (tenant: string, first: string, which: Which = {}) =>
  useQuery({
    queryKey: ['flow-days', tenant, first, which],
    queryFn: ({signal}) =>
      unwrap(
        api.GET('/api/v1/tenants/{tenant}/flow/days', {params: {path: {tenant}, query: {...which, first}}, signal}),
      ),
    placeholderData: (previous) => previous,
    retry: false,
  });

export const useShifts = (tenant: string, days: number) =>
  useQuery({
    queryKey: ['shifts', tenant, days],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/shifts', {params: {path: {tenant}, query: {days}}, signal})),
    refetchInterval: 30_000,
  });

export const useShift = (tenant: string, id: number) =>
  useQuery({
    queryKey: ['shifts', tenant, 'one', id],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/shifts/{id}', {params: {path: {tenant, id}}, signal})),
    retry: false,
  });

/** The rules; asked for again and again while the past is judged by them. */
export const useRules = (tenant: string) =>
  useQuery({
    queryKey: ['cause-rules', tenant],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/tenants/{tenant}/cause-rules', {params: {path: {tenant}}, signal})),
    refetchInterval: (query) =>
      ['waiting', 'running'].includes(query.state.data?.application?.state ?? '') ? 1_000 : false,
  });

export const useRuleTrial = (tenant: string) =>
  useMutation({
    mutationFn: (body: Schemas['RuleTrialRequest']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/cause-rules/trial', {params: {path: {tenant}}, body})),
  });

/** A change of the rules, after which what they decide is asked for anew. */
function useRulesChange<Sent>(tenant: string, mutationFn: (sent: Sent) => Promise<Schemas['CauseRules']>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn,
    onSuccess: (rules) => queries.setQueryData(['cause-rules', tenant], rules),
    onSettled: () =>
      Promise.all(
        ['cause-rules', 'causes', 'wordings', 'flow'].map((each) =>
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

export const useFlowSettings = (tenant: string) =>
  useQuery({
    queryKey: ['flow-settings', tenant],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/flow-settings', {params: {path: {tenant}}, signal})),
  });

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

export const useErasures = (tenant: string) =>
  useQuery({
    queryKey: ['erasures', tenant],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/tenants/{tenant}/erasures', {params: {path: {tenant}}, signal})),
  });

export function useErase(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['ErasureRequest']) =>
      unwrap(api.POST('/api/v1/tenants/{tenant}/erasures', {params: {path: {tenant}}, body})),
    onSettled: () => queries.invalidateQueries(),
  });
}

export const useProviders = (tenant: string) =>
  useQuery({
    queryKey: ['providers', tenant],
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/tenants/{tenant}/providers', {params: {path: {tenant}}, signal})),
    staleTime: 300_000,
  });

export const useReadingSettings = (tenant: string) =>
  useQuery({
    queryKey: ['reading-settings', tenant],
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/readings/settings', {params: {path: {tenant}}, signal})),
  });

/** Set the parameters of readings; null goes back to those that are shipped. */
export function useChangeReadingSettings(tenant: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas['ReadingSettings'] | null) => {
      const params = {path: {tenant}};
      return body === null
        ? unwrap(api.DELETE('/api/v1/tenants/{tenant}/readings/settings', {params}))
        : unwrap(api.PUT('/api/v1/tenants/{tenant}/readings/settings', {params, body}));
    },
    onSuccess: (kept) => queries.setQueryData(['reading-settings', tenant], kept),
  });
}
