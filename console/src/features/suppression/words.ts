/** How the list speaks: reasons, scope and changes in plain words. */
import type {Schemas} from '../../api/client';
import {words} from '../../design/format';

type Entry = Schemas['SuppressionEntry'];
export const REASONS: {value: Entry['reason']; label: string}[] = [
  {value: 'invalid_address', label: 'Invalid address'},
  {value: 'complaint', label: 'Complaint'},
  {value: 'unsubscribed', label: 'Unsubscribed'},
  {value: 'repeated_bounces', label: 'Repeated bounces'},
  {value: 'domain_invalid', label: 'Domain invalid'},
  {value: 'manual', label: 'Manual'},
  {value: 'spam_trap', label: 'Spam trap'},
  {value: 'role_address', label: 'Role address'},
  {value: 'unresponsive', label: 'Unresponsive'},
];
export const scope = (entry: {scope: string; scope_name?: string}): string =>
  entry.scope === 'tenant' ? 'all mail' : `${entry.scope} ${entry.scope_name || '(unnamed)'}`;
export const shownAddress = (entry: {address: string; address_key: string}): string =>
  entry.address || `digest ${entry.address_key.slice(0, 12)}…`;
export const change = (name: string): string =>
  ({delivered: 'ended: mail was delivered', withdrawn: 'withdrawn: re-classified', ended: 'expired'})[name] ??
  words(name);
