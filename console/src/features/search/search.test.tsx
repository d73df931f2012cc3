/** The palette: keys that open it, what it offers, where it leads; and the documentation inside the console. */
import {cleanup, screen, waitFor, within as inside} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, beforeEach, describe, expect, it} from 'vitest';
import {open, serviceWith, withBrowserParts} from '../../testing';
import {docs, headingsOf, searchDocs} from '../docs/docs';
import {DocsPage} from '../docs/DocsPage';
import {Search} from './Palette';
import {places, placesFor, within} from './places';

beforeEach(withBrowserParts);
afterEach(cleanup);

const found = {
  kind: 'domain' as const,
  tenant: 'glasswort',
  tenant_name: 'Glasswort Theatre',
  name: 'news.glasswort.example',
  text: '',
  path: '/domains/glasswort/news.glasswort.example',
};

describe('the palette', () => {
  it('opens by a slash or Ctrl-K, and not while somebody types', async () => {
    serviceWith({});
    open(
      <>
        <input aria-label="a field" />
        <Search />
      </>,
      '/',
    );
    await userEvent.type(screen.getByLabelText('a field'), 'a/b');
    expect(screen.queryByRole('dialog')).toBeNull();
    await userEvent.click(document.body);
    await userEvent.keyboard('/');
    expect(await screen.findByRole('dialog', {name: 'Search'})).toBeTruthy();
    await userEvent.keyboard('{Escape}');
    await waitFor(() => expect(screen.queryByRole('dialog')).toBeNull());
    await userEvent.keyboard('{Control>}k{/Control}');
    expect(await screen.findByRole('dialog', {name: 'Search'})).toBeTruthy();
  });

  it('shows what the service found beside pages and documentation', async () => {
    serviceWith({'GET /api/v1/search': {items: [found], more: []}});
    open(<Search />, '/');
    await userEvent.keyboard('/');
    await userEvent.type(await screen.findByRole('searchbox'), 'suppression');
    const menu = await screen.findByRole('menu', {name: 'Found'});
    expect(await inside(menu).findByText('news.glasswort.example')).toBeTruthy();
    expect(inside(menu).getByText('Suppression list')).toBeTruthy();
    expect(await inside(menu).findByText('Documentation')).toBeTruthy();
  });

  it('says that nothing fits, and how recipients are found', async () => {
    serviceWith({'GET /api/v1/search': {items: [], more: []}});
    open(<Search />, '/');
    await userEvent.keyboard('/');
    await userEvent.type(await screen.findByRole('searchbox'), 'zzzz');
    expect(await screen.findByText(/Nothing fits “zzzz”/)).toBeTruthy();
  });
});

describe('places', () => {
  it('are found by their names and by other words', () => {
    expect(placesFor('invite').map((each) => each.name)).toContain('Invite a colleague');
    expect(placesFor('password')[0]!.name).toBe('Change password');
    expect(placesFor('nothing like it')).toEqual([]);
    expect(new Set(places.map((each) => each.name)).size).toBe(places.length);
  });

  it('keep the tenant', () => {
    expect(within('/flow?view=feeds', 'glasswort')).toBe('/flow?view=feeds&tenant=glasswort');
    expect(within('/flow', '')).toBe('/flow');
    expect(within('/docs', 'glasswort')).toBe('/docs');
  });
});

describe('the documentation', () => {
  it('has every page, and links between pages lead somewhere', () => {
    const names = docs.map((each) => each.name);
    expect(names).toContain('suppression');
    const broken = docs.flatMap(({name, text}) =>
      [...text.matchAll(/\]\(([a-z-]+)\.md(?:#([^)]+))?\)/g)]
        .filter(
          ([, page, anchor]) =>
            !names.includes(page!) || (anchor && !headingsOf(page!).some((each) => each.anchor === anchor)),
        )
        .map(([link]) => `${name}: ${link}`),
    );
    expect(broken).toEqual([]);
  });

  it('is searched by words, headings first', () => {
    const [first] = searchDocs('cluster of databases');
    expect(first).toMatchObject({doc: 'operations', title: 'A cluster of databases'});
    expect(searchDocs('xyzzyq')).toEqual([]);
    expect(searchDocs(' ')).toEqual([]);
  });

  it('is shown with its tables and links', async () => {
    open(<DocsPage />, '/docs/glossary', '/docs/:name?');
    expect(await screen.findByRole('heading', {level: 1, name: 'Glossary'})).toBeTruthy();
    expect(screen.getByRole('link', {name: 'The audit'}).getAttribute('href')).toBe('/docs/audit');
  });

  it('says that a page is not there', async () => {
    open(<DocsPage />, '/docs/nowhere', '/docs/:name?');
    expect(await screen.findByText(/does not have a page “nowhere”/)).toBeTruthy();
  });
});
