/** Causes of bounces and delays that a rule can name, in the order in which they are offered. */
import type {Schemas} from '../../api/client';

export const CAUSES: Schemas['OwnRule']['cause'][] = [
  'no_such_mailbox',
  'mailbox_disabled',
  'mailbox_full',
  'no_such_domain',
  'host_unreachable',
  'reputation',
  'blocklisted',
  'authentication',
  'content',
  'policy',
  'rate_limited',
  'greylisted',
  'too_large',
  'relay_denied',
  'tls_required',
  'loop',
  'expired',
  'protocol_error',
  'provider_trouble',
  'sender_unproven',
];
