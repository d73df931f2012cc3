/** The report of a period, links that open one without an account, and the look of a tenant's reports. */
import {keepPreviousData, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, unwrapItems, type Schemas} from '../../api/client';

const key = (tenant: string, ...more: unknown[]) => ['report', tenant, ...more];
const REPORTS = '/api/v1/tenants/{tenant}/reports' as const;
const SHARES = '/api/v1/tenants/{tenant}/report-shares' as const;
const STYLE = '/api/v1/tenants/{tenant}/report-style' as const;
const LOGO = '/api/v1/tenants/{tenant}/report-logo' as const;

/** `last`: the last day, YYYY-MM-DD; empty: today. */
export const useReport = (tenant: string, days: number, last: string) =>
  useQuery({
    queryKey: key(tenant, 'page', days, last),
    queryFn: ({signal}) =>
      unwrap(api.GET(REPORTS, {params: {path: {tenant}, query: {days, last: last || undefined}}, signal})),
    placeholderData: keepPreviousData,
  });

/** Does something, and reads everything about the tenant's reports again. */
function useChange<V, R>(tenant: string, change: (value: V) => Promise<R>) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSuccess: () => client.invalidateQueries({queryKey: key(tenant)}),
  });
}

export const useSendReport = (tenant: string) =>
  useMutation({
    mutationFn: (query: {days: number; last?: string}) => unwrap(api.POST(REPORTS, {params: {path: {tenant}, query}})),
  });

export const useReportShares = (tenant: string) =>
  useQuery({
    queryKey: key(tenant, 'shares'),
    queryFn: ({signal}) => unwrapItems(api.GET(SHARES, {params: {path: {tenant}}, signal})),
  });

export const useAddReportShare = (tenant: string) =>
  useChange(tenant, (body: Schemas['NewReportShare']) => unwrap(api.POST(SHARES, {params: {path: {tenant}}, body})));

export const useDeleteReportShare = (tenant: string) =>
  useChange(tenant, (share: number) => unwrap(api.DELETE(`${SHARES}/{share}`, {params: {path: {tenant, share}}})));

export const useReportStyle = (tenant: string) =>
  useQuery({
    queryKey: key(tenant, 'style'),
    queryFn: ({signal}) => unwrap(api.GET(STYLE, {params: {path: {tenant}}, signal})),
  });

export const useSetReportStyle = (tenant: string) =>
  useChange(tenant, (body: Schemas['ReportStyle']) => unwrap(api.PUT(STYLE, {params: {path: {tenant}}, body})));

export const useSetReportLogo = (tenant: string) =>
  useChange(tenant, (file: File) =>
    unwrap(
      api.PUT(LOGO, {
        params: {path: {tenant}},
        body: file as unknown as never,
        bodySerializer: (body: unknown) => body as Blob,
        headers: {'Content-Type': file.type || 'application/octet-stream'},
      }),
    ),
  );

export const useDeleteReportLogo = (tenant: string) =>
  useChange(tenant, () => unwrap(api.DELETE(LOGO, {params: {path: {tenant}}})));
