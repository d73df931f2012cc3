/** Reports of receivers, who sends as a domain, policies tried on past mail. A change refreshes all of the tenant's. */
import {keepPreviousData, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, unwrapItems, type Schemas} from '../../api/client';
import {sendPieces} from '../jobs/queries';

const TENANT = '/api/v1/tenants/{tenant}' as const;
const DOMAIN = `${TENANT}/domains/{name}` as const;
const key = (tenant: string, ...rest: unknown[]) => ['reports', tenant, ...rest];

export const useOverview = (tenant: string, name: string, days: number) =>
  useQuery({
    queryKey: key(tenant, 'overview', name, days),
    queryFn: ({signal}) =>
      unwrap(api.GET(`${DOMAIN}/sources`, {params: {path: {tenant, name}, query: {days}}, signal})),
    placeholderData: keepPreviousData,
  });

export const useStreams = (tenant: string, name: string, days: number) =>
  useQuery({
    queryKey: key(tenant, 'streams', name, days),
    queryFn: ({signal}) =>
      unwrap(api.GET(`${DOMAIN}/stream-alignment`, {params: {path: {tenant, name}, query: {days}}, signal})),
    placeholderData: keepPreviousData,
  });

export const useSource = (tenant: string, name: string, source: string, days: number) =>
  useQuery({
    queryKey: key(tenant, 'source', name, source, days),
    queryFn: ({signal}) =>
      unwrap(api.GET(`${DOMAIN}/source`, {params: {path: {tenant, name}, query: {source, days}}, signal})),
    enabled: source !== '',
    retry: false,
  });

export const useRehearsal = (tenant: string, name: string, policy: Schemas['RehearsalPolicy']) =>
  useQuery({
    queryKey: key(tenant, 'rehearsal', name, policy),
    queryFn: ({signal}) =>
      unwrap(api.POST(`${DOMAIN}/rehearsal`, {params: {path: {tenant, name}}, body: policy, signal})),
    placeholderData: keepPreviousData,
  });

export const usePath = (tenant: string, name: string) =>
  useQuery({
    queryKey: key(tenant, 'path', name),
    queryFn: ({signal}) => unwrap(api.GET(`${DOMAIN}/policy-path`, {params: {path: {tenant, name}}, signal})),
  });

export const useTls = (tenant: string, name: string, days: number) =>
  useQuery({
    queryKey: key(tenant, 'tls', name, days),
    queryFn: ({signal}) => unwrap(api.GET(`${DOMAIN}/tls`, {params: {path: {tenant, name}, query: {days}}, signal})),
    placeholderData: keepPreviousData,
  });

export const useReportedDomains = (tenant: string, days: number) =>
  useQuery({
    queryKey: key(tenant, 'domains', days),
    queryFn: ({signal}) =>
      unwrapItems(api.GET(`${TENANT}/reported-domains`, {params: {path: {tenant}, query: {days}}, signal})),
  });

export const useReceivers = (tenant: string) =>
  useQuery({
    queryKey: key(tenant, 'receivers'),
    queryFn: ({signal}) => unwrapItems(api.GET(`${TENANT}/receivers`, {params: {path: {tenant}}, signal})),
  });

export const useStoredReports = (tenant: string, kind: string) =>
  useQuery({
    queryKey: key(tenant, 'stored', kind),
    queryFn: ({signal}) =>
      unwrapItems(
        api.GET(`${TENANT}/receiver-reports`, {
          params: {
            path: {tenant},
            query: {limit: 50, ...(kind ? {kind: kind as Schemas['ReportSummary']['kind']} : {})},
          },
          signal,
        }),
      ),
  });

export const useReport = (tenant: string, id: number) =>
  useQuery({
    queryKey: key(tenant, 'report', id),
    queryFn: ({signal}) => unwrap(api.GET(`${TENANT}/receiver-reports/{id}`, {params: {path: {tenant, id}}, signal})),
    enabled: id > 0,
    retry: false,
  });

export const useRejectedReports = (tenant: string) =>
  useQuery({
    queryKey: key(tenant, 'rejected'),
    queryFn: ({signal}) =>
      unwrapItems(api.GET(`${TENANT}/receiver-reports/rejected`, {params: {path: {tenant}}, signal})),
  });

/** Does something, and reads everything about the tenant's reports again. */
function useChange<In, Out>(mutationFn: (given: In) => Promise<Out>) {
  const client = useQueryClient();
  return useMutation({
    mutationFn,
    onSuccess: () => {
      for (const name of ['reports', 'plans', 'worklist', 'jobs']) void client.invalidateQueries({queryKey: [name]});
    },
  });
}

export const useClaim = (tenant: string, name: string, source: string) =>
  useChange((body: Schemas['SourceClaim']) =>
    unwrap(api.POST(`${DOMAIN}/source/claim`, {params: {path: {tenant, name}, query: {source}}, body})),
  );

export const useDecide = (tenant: string, name: string, source: string) =>
  useChange((body: Schemas['SourceDecision']) =>
    unwrap(api.POST(`${DOMAIN}/source/decision`, {params: {path: {tenant, name}, query: {source}}, body})),
  );

/** Decides about several sources, one after the other; names those that the service did not take. */
export const useDecideAll = (tenant: string, name: string) =>
  useChange(async (wanted: {source: string; verdict: Schemas['SourceDecision']['verdict']}[]) => {
    const failed: string[] = [];
    for (const {source, verdict} of wanted) {
      const params = {path: {tenant, name}, query: {source}};
      await unwrap(api.POST(`${DOMAIN}/source/decision`, {params, body: {verdict, note: ''}})).catch(() =>
        failed.push(source),
      );
    }
    return {decided: wanted.length - failed.length, failed};
  });

export const useSetPath = (tenant: string, name: string) =>
  useChange((body: Schemas['PathSettings']) =>
    unwrap(api.PUT(`${DOMAIN}/policy-path`, {params: {path: {tenant, name}}, body})),
  );

export const useChooseStage = (tenant: string, name: string) =>
  useChange((stage: Schemas['PathAdvance']['stage']) =>
    unwrap(api.POST(`${DOMAIN}/policy-path/stage`, {params: {path: {tenant, name}}, body: {stage}})),
  );

const LARGE = 2 * 1024 * 1024; // octets; larger files, and archives, are stored by a job
const isArchive = (file: File) => /\.(tar|tgz|tar\.gz|zip)$/i.test(file.name);

/** Uploads files one after another; what became of each, and the jobs of those that take long. */
export const useUpload = (tenant: string) =>
  useChange(async ({files, told}: {files: File[]; told: (share: number) => void}) => {
    const done: (Schemas['StoredReport'] & {file: string})[] = [];
    const jobs: number[] = [];
    for (const file of files) {
      if (file.size > LARGE || isArchive(file)) {
        const job = await unwrap(
          api.POST(`${TENANT}/report-files`, {params: {path: {tenant}}, body: {name: file.name}}),
        );
        await sendPieces(tenant, job.id, file, told);
        await unwrap(api.POST(`${TENANT}/jobs/{id}/run`, {params: {path: {tenant, id: job.id}}, body: {dry: false}}));
        jobs.push(job.id);
        continue;
      }
      const stored = await unwrap(
        api.POST(`${TENANT}/receiver-reports`, {
          params: {path: {tenant}},
          body: file as never,
          bodySerializer: (body: unknown) => body as BodyInit,
          headers: {'content-type': 'application/octet-stream'},
        }),
      );
      done.push({...stored, file: file.name});
    }
    return {done, jobs};
  });

export const useReplay = (tenant: string) =>
  useChange(() => unwrap(api.POST(`${TENANT}/receiver-reports/rejected/replay`, {params: {path: {tenant}}})));
