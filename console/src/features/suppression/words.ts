/** How the list speaks: reasons, reach and changes in plain words. */
import type {Schemas} from '../../api/client';
import {words} from '../../design/format';

type Entry = Schemas['SuppressionEntry'];
export const REASONS: {value: Entry['reason']; label: string}[] = [
  {value: 'bad_address', label: 'Bad address'},
  {value: 'complaint', label: 'Complaint'},
  {value: 'unsubscribed', label: 'Unsubscribed'},
  {value: 'keeps_bouncing', label: 'Keeps bouncing'},
  {value: 'domain_gone', label: 'Domain gone'},
  {value: 'by_hand', label: 'By hand'},
  {value: 'spam_trap', label: 'Spam trap'},
  {value: 'role_address', label: 'Role address'},
  {value: 'no_sign_of_life', label: 'No sign of life'},
];
export const reach = (entry: {reach: string; reach_name?: string}): string =>
  entry.reach === 'tenant' ? 'all mail' : `${entry.reach} ${entry.reach_name || '(unnamed)'}`;
export const shownAddress = (entry: {address: string; address_key: string}): string =>
  entry.address || `digest ${entry.address_key.slice(0, 12)}…`;
export const change = (name: string): string =>
  ({delivered: 'let go: mail was delivered', withdrawn: 'withdrawn: read otherwise', ended: 'its time was over'})[
    name
  ] ?? words(name);
