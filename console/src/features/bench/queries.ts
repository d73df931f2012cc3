import {useInfiniteQuery, useMutation, useQuery, useQueryClient} from '@tanstack/react-query';
import {api, unwrap, unwrapItems, type Schemas} from '../../api/client';

export interface ToExamine {
  message: Blob;
  ip: string;
  mail_from: string;
}

/** Examines a message as it was or will be sent; the octets go as they are. */
export const useAssay = (tenant: string) =>
  useMutation({
    mutationFn: ({message, ...query}: ToExamine) =>
      unwrap(
        api.POST('/api/v1/tenants/{tenant}/assays', {
          params: {path: {tenant}, query},
          body: message as unknown as string,
          bodySerializer: (body: unknown) => body as Blob,
          headers: {'Content-Type': 'message/rfc822'},
        }),
      ),
  });

type Path = {tenant: string; name: string};
const TRAY = '/api/v1/tenants/{tenant}/trays/{name}' as const;
const key = (tenant: string, ...more: unknown[]) => ['bench', tenant, ...more];
const LIVE = 3000; // milliseconds between looks while a tray is open

export const useTrays = (tenant: string) =>
  useQuery({
    queryKey: key(tenant),
    queryFn: ({signal}) => unwrapItems(api.GET('/api/v1/tenants/{tenant}/trays', {params: {path: {tenant}}, signal})),
  });

export const useTray = (path: Path) =>
  useQuery({
    queryKey: key(path.tenant, path.name),
    queryFn: ({signal}) => unwrap(api.GET(TRAY, {params: {path}, signal})),
  });

export const useConnection = (path: Path) =>
  useQuery({
    queryKey: key(path.tenant, path.name, 'connection'),
    queryFn: ({signal}) => unwrap(api.GET(`${TRAY}/connection`, {params: {path}, signal})),
  });

export interface MessageFilter {
  subject?: string;
  recipient?: string;
  template?: string;
}

/** Messages, the newest first, page by page; new ones appear by themselves. */
export const useMessages = (path: Path, filter: MessageFilter) =>
  useInfiniteQuery({
    queryKey: key(path.tenant, path.name, 'messages', filter),
    queryFn: ({signal, pageParam}) =>
      unwrap(
        api.GET(`${TRAY}/messages`, {
          params: {path, query: {...filter, cursor: pageParam || undefined, limit: 100}},
          signal,
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (page) => page.next ?? undefined,
    refetchInterval: LIVE,
  });

const MESSAGE = `${TRAY}/messages/{id}` as const;

export const useMessage = (path: Path & {id: number}) =>
  useQuery({
    queryKey: key(path.tenant, path.name, 'message', path.id),
    queryFn: ({signal}) => unwrap(api.GET(MESSAGE, {params: {path}, signal})),
  });

export const useCaughtAssay = (path: Path & {id: number}) =>
  useQuery({
    queryKey: key(path.tenant, path.name, 'assay', path.id),
    queryFn: ({signal}) => unwrap(api.GET(`${MESSAGE}/assay`, {params: {path}, signal})),
  });

export const useConversation = (path: Path & {id: number}) =>
  useQuery({
    queryKey: key(path.tenant, path.name, 'conversation', path.id),
    queryFn: ({signal}) => unwrap(api.GET(`${MESSAGE}/conversation`, {params: {path}, signal})),
  });

export const sourceAddress = ({tenant, name, id}: Path & {id: number}) =>
  `/api/v1/tenants/${encodeURIComponent(tenant)}/trays/${encodeURIComponent(name)}/messages/${id}/source`;

/** The octets, each as one character: what is not ASCII is shown as it stands. */
export const useSource = (path: Path & {id: number}) =>
  useQuery({
    queryKey: key(path.tenant, path.name, 'source', path.id),
    queryFn: async ({signal}) => {
      const octets = await unwrap(
        api.GET(`${MESSAGE}/source`, {params: {path}, parseAs: 'arrayBuffer', signal}) as Promise<{
          data?: ArrayBuffer;
          error?: unknown;
          response: Response;
        }>,
      );
      return new Uint8Array(octets);
    },
  });

export const useComparison = (path: Path, message: number[]) =>
  useQuery({
    queryKey: key(path.tenant, path.name, 'comparison', message),
    enabled: message.length > 1,
    queryFn: ({signal}) => unwrap(api.GET(`${TRAY}/comparison`, {params: {path, query: {message}}, signal})),
  });

export const useTemplates = (path: Path) =>
  useQuery({
    queryKey: key(path.tenant, path.name, 'templates'),
    queryFn: ({signal}) => unwrapItems(api.GET(`${TRAY}/series`, {params: {path}, signal})),
  });

export const useHistory = (path: Path, template: string) =>
  useQuery({
    queryKey: key(path.tenant, path.name, 'history', template),
    queryFn: ({signal}) => unwrap(api.GET(`${TRAY}/history`, {params: {path, query: {template}}, signal})),
  });

/** Does something to trays, and reads everything about the tenant's trays again. */
function useChange<In, Out>(tenant: string, mutationFn: (given: In) => Promise<Out>) {
  const client = useQueryClient();
  return useMutation({mutationFn, onSuccess: () => client.invalidateQueries({queryKey: key(tenant)})});
}

export const useAddTray = (tenant: string) =>
  useChange(tenant, (body: Schemas['NewTray']) =>
    unwrap(api.POST('/api/v1/tenants/{tenant}/trays', {params: {path: {tenant}}, body})),
  );

export const useUpdateTray = (path: Path) =>
  useChange(path.tenant, (body: Schemas['TrayChange']) => unwrap(api.PATCH(TRAY, {params: {path}, body})));

export const useDeleteTray = (path: Path) => useChange(path.tenant, () => unwrap(api.DELETE(TRAY, {params: {path}})));

export const useRotateTray = (path: Path) =>
  useChange(path.tenant, () => unwrap(api.POST(`${TRAY}/rotation`, {params: {path}})));

export const useEmptyTray = (path: Path) =>
  useChange(path.tenant, () => unwrap(api.DELETE(`${TRAY}/messages`, {params: {path}})));

export const useDeleteMessage = (path: Path & {id: number}) =>
  useChange(path.tenant, () => unwrap(api.DELETE(MESSAGE, {params: {path}})));

export const useRecheck = (path: Path & {id: number}) =>
  useChange(path.tenant, () => unwrap(api.POST(`${MESSAGE}/assay`, {params: {path}})));

export const useUpload = (path: Path) =>
  useChange(path.tenant, (message: Blob) =>
    unwrap(
      api.POST(`${TRAY}/messages`, {
        params: {path},
        body: message as unknown as string,
        bodySerializer: (body: unknown) => body as Blob,
        headers: {'Content-Type': 'message/rfc822'},
      }),
    ),
  );

export const useAssayRules = (tenant: string) =>
  useQuery({
    queryKey: key(tenant, 'rules'),
    queryFn: ({signal}) =>
      unwrapItems(api.GET('/api/v1/tenants/{tenant}/assay-rules', {params: {path: {tenant}}, signal})),
  });

export const useAssaySettings = (tenant: string) =>
  useQuery({
    queryKey: key(tenant, 'settings'),
    queryFn: ({signal}) =>
      unwrap(api.GET('/api/v1/tenants/{tenant}/assay-settings', {params: {path: {tenant}}, signal})),
  });

export const useSaveAssaySettings = (tenant: string) =>
  useChange(tenant, (body: Schemas['AssaySettings']) =>
    unwrap(api.PUT('/api/v1/tenants/{tenant}/assay-settings', {params: {path: {tenant}}, body})),
  );

export const useTextModel = (tenant: string) =>
  useQuery({
    queryKey: key(tenant, 'model'),
    queryFn: ({signal}) => unwrap(api.GET('/api/v1/tenants/{tenant}/text-model', {params: {path: {tenant}}, signal})),
  });

export const useLearn = (tenant: string) =>
  useChange(tenant, () => unwrap(api.POST('/api/v1/tenants/{tenant}/text-model', {params: {path: {tenant}}})));
