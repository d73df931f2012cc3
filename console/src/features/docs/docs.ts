/** The documentation, from the folder docs/ of the product, so that the console and the files say the same. */

const files = import.meta.glob<string>('../../../../docs/*.md', {query: '?raw', import: 'default', eager: true});

/** Drawings that pages show, by their path as a page writes it. */
export const figures: Record<string, string> = Object.fromEntries(
  Object.entries(
    import.meta.glob<string>('../../../../docs/figures/*.svg', {query: '?url', import: 'default', eager: true}),
  ).map(([path, url]) => [`figures/${path.slice(path.lastIndexOf('/') + 1)}`, url]),
);

export interface Doc {
  name: string;
  title: string;
  text: string;
}
export interface Heading {
  doc: string;
  docTitle: string;
  title: string;
  anchor: string;
}
export interface Hit extends Heading {
  /** The line that the words were found in. */
  line: string;
}

/** What a heading is linked by, as Markdown readers make it. */
export const anchorOf = (title: string) =>
  title
    .toLowerCase()
    .replace(/[^\p{L}\p{N}\s-]/gu, '')
    .trim()
    .replace(/\s/g, '-');

const plain = (text: string) => text.replace(/[`*]/g, '').replace(/\[([^\]]+)\]\([^)]*\)/g, '$1');

// Pages for those who build the product, or list what it can do elsewhere, come last.
const LAST = ['architecture', 'performance', 'reliability', 'scale', 'truth', 'api', 'cli'];
const rank = (name: string) => LAST.indexOf(name);

export const docs: Doc[] = Object.entries(files)
  .map(([path, text]) => {
    const name = path.slice(path.lastIndexOf('/') + 1, -3);
    return {name, title: plain(/^# (.+)$/m.exec(text)?.[1] ?? name), text};
  })
  .sort((a, b) => rank(a.name) - rank(b.name) || a.title.localeCompare(b.title));

/** Headings of a page with the lines below each; headings within code are none. */
function sections(doc: Doc): (Heading & {lines: string[]})[] {
  const found: (Heading & {lines: string[]})[] = [];
  let code = false;
  for (const line of doc.text.split('\n')) {
    if (line.startsWith('```')) code = !code;
    const heading = code ? null : /^#{1,4} (.+)$/.exec(line);
    if (heading) {
      const title = plain(heading[1]!);
      found.push({doc: doc.name, docTitle: doc.title, title, anchor: anchorOf(heading[1]!), lines: []});
    } else found.at(-1)?.lines.push(line);
  }
  return found;
}

const all = docs.flatMap(sections);

export const headingsOf = (name: string) => all.filter((each) => each.doc === name && each.title !== each.docTitle);

/** Sections that have all words of a text: those with more of them in the heading first. */
export function searchDocs(text: string, most = 30): Hit[] {
  const words = text
    .toLowerCase()
    .split(/\s+/)
    .filter((word) => word.length > 1);
  if (words.length === 0) return [];
  const hits = all.flatMap((section) => {
    const title = section.title.toLowerCase();
    const body = section.lines.join('\n').toLowerCase();
    if (!words.every((word) => title.includes(word) || body.includes(word))) return [];
    const named = words.filter((word) => title.includes(word)).length;
    const line = plain(section.lines.find((each) => words.some((word) => each.toLowerCase().includes(word))) ?? '');
    return [{hit: {...section, line: line.replace(/^[-|#\s]+/, '').slice(0, 160)}, weight: named}];
  });
  return hits
    .sort((a, b) => b.weight - a.weight || rank(a.hit.doc) - rank(b.hit.doc))
    .slice(0, most)
    .map(({hit: {doc, docTitle, title, anchor, line}}) => ({doc, docTitle, title, anchor, line}));
}
