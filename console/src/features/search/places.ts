/** Pages and actions that the palette offers: where each is, and by which other words people look for it. */

export interface Place {
  name: string;
  path: string;
  kind: 'page' | 'action';
  words?: string;
}

const page = (name: string, path: string, words = ''): Place => ({name, path, kind: 'page', words});
const action = (name: string, path: string, words = ''): Place => ({name, path, kind: 'action', words});

export const places: Place[] = [
  page('Wall', '/', 'home overview readings'),
  page('Worklist', '/worklist', 'items problems to do'),
  page('Domains', '/domains', 'spf dkim dmarc'),
  page('Reports of receivers', '/domains/reports', 'dmarc aggregate tls'),
  page('Mail flow: providers', '/flow', 'deliveries bounces'),
  page('Mail flow: causes', '/flow?view=causes', 'bounces replies'),
  page('Mail flow: trails', '/flow?view=trails', 'recipient message events'),
  page('Mail flow: compare', '/flow?view=compare', 'campaign variant'),
  page('Mail flow: feeds', '/flow?view=feeds', 'sources import'),
  page('Mail flow: warm-up', '/flow?view=warmup', 'ceilings plan'),
  page('Suppression list', '/suppression', 'held addresses'),
  page('Suppression: growth', '/suppression?view=growth'),
  page('Suppression: pre-send checks', '/suppression?view=pre-send', 'list check clearance'),
  page('Suppression: verifiers', '/suppression?view=verifiers', 'verification'),
  page('Suppression: policy', '/suppression?view=policy', 'rules'),
  page('Suppression: unsubscribes', '/suppression?view=unsubscribes', 'one-click'),
  page('Suppression: import and export', '/suppression?view=import-export'),
  page('Readings', '/readings', 'reputation score'),
  page('Client report', '/report', 'client print week monday share logo'),
  page('Bench: messages', '/bench', 'assay trays test'),
  page('Bench: placement', '/bench?view=placement', 'seeds inbox spam'),
  page('Settings: alert channels', '/settings/alerts', 'notifications mail chat'),
  page('Settings: stream pauses', '/settings/stream-pauses'),
  page('Settings: reading factors', '/settings/factors'),
  page('Settings: webhooks', '/settings/webhooks'),
  page('Settings: client reports', '/settings/reports', 'logo colour sender'),
  page('Settings: API tokens', '/settings/tokens', 'key'),
  page('Settings: data retention', '/settings/retention'),
  page('Settings: recipient data', '/settings/recipient-data', 'privacy export erase'),
  page('Settings: members', '/settings/members', 'people invite roles'),
  page('Settings: audit log', '/settings/audit-log'),
  page('Settings: your account', '/settings/account', 'password passkey second factor sessions theme'),
  page('Glossary', '/docs/glossary', 'terms words help'),
  page('Documentation', '/docs', 'help manual'),
  action('Add a domain', '/domains', 'new'),
  action('Import events', '/flow?view=feeds', 'upload load'),
  action('Add a feed', '/flow?view=feeds', 'source'),
  action('Import suppressed addresses', '/suppression?view=import-export', 'upload'),
  action('Check a list before a send', '/suppression?view=pre-send', 'clearance addresses'),
  action('Examine a message', '/bench', 'assay'),
  action('Send copies to seeds', '/bench?view=placement', 'placement run'),
  action('Add an alert channel', '/settings/alerts', 'notification'),
  action('Invite a colleague', '/settings/members', 'member person'),
  action('Share a report', '/report', 'client link'),
  action('Add an API token', '/settings/tokens'),
  action('Change password', '/settings/account'),
];

/** What fits all words, by name or by another word; names that begin with the text first. */
export function placesFor(text: string, most = 8): Place[] {
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  if (words.length === 0) return places.filter((each) => each.kind === 'page' && !each.name.includes(':')).slice(0, 8);
  const fits = places.filter((each) => {
    const all = `${each.name} ${each.words ?? ''}`.toLowerCase();
    return words.every((word) => all.split(/[\s:]+/).some((part) => part.startsWith(word)) || all.includes(word));
  });
  const rank = ({name}: Place) => {
    const at = name.toLowerCase().indexOf(words[0]!);
    return at === 0 ? 0 : at > 0 ? 1 : 2;
  };
  return fits.sort((a, b) => rank(a) - rank(b)).slice(0, most);
}

/** The same page for a tenant: what was chosen stays chosen. */
export const within = (path: string, tenant: string) =>
  tenant && !path.startsWith('/docs') && !path.includes('tenant=')
    ? `${path}${path.includes('?') ? '&' : '?'}tenant=${tenant}`
    : path;
