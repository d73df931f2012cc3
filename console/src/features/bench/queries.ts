import {useMutation} from '@tanstack/react-query';
import {api, unwrap} from '../../api/client';

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
