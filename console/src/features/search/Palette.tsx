/** Search and commands in one: Ctrl-K, or a slash outside a field, opens it on every page. */
import {useEffect, useState} from 'react';
import {
  Autocomplete,
  Dialog,
  Header,
  Input,
  Menu,
  MenuItem,
  MenuSection,
  Modal,
  ModalOverlay,
  SearchField,
  Text,
} from 'react-aria-components';
import {useNavigate} from 'react-router';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Soft} from '../../design/Card';
import {colour, font, narrow, space} from '../../design/tokens';
import {useView} from '../../shell/view';
import {usePreferences} from '../session/preferences';
import {placesFor, within} from './places';
import {useDocs, useSearch} from './queries';

const Overlay = styled(ModalOverlay)`
  position: fixed;
  inset: 0;
  padding: 10vh ${space.l} ${space.l};
  background: rgb(0 0 0 / 40%);
  z-index: 30;
  ${narrow} {
    padding: ${space.s};
  }
`;
const Box = styled(Modal)`
  width: min(640px, 100%);
  max-height: 76vh;
  margin: 0 auto;
  display: flex;
  background: ${colour('sheet')};
  color: ${colour('ink')};
  border: 1px solid ${colour('line')};
  border-radius: 6px;
  overflow: hidden;
  > section {
    display: flex;
    flex-direction: column;
    flex: 1;
    min-width: 0;
    outline: none;
  }
  input {
    width: 100%;
    font: 16px ${font.sans};
    padding: ${space.m} ${space.l};
    border: 0;
    border-bottom: 1px solid ${colour('line')};
    background: none;
    color: inherit;
    outline: none;
  }
  [role='menu'] {
    overflow-y: auto;
    padding: ${space.s} 0;
    outline: none;
  }
  header {
    padding: ${space.s} ${space.l} 2px;
    font-size: 12px;
    font-weight: 600;
    color: ${colour('soft')};
  }
  [role='menuitem'] {
    display: grid;
    grid-template-columns: minmax(0, 1fr) auto;
    gap: ${space.m};
    padding: 5px ${space.l};
    cursor: pointer;
    outline: none;
    font: 14px/1.4 ${font.sans};
    color: inherit;
    text-decoration: none;
  }
  [role='menuitem'][data-focused] {
    background: color-mix(in srgb, ${colour('line')} 55%, transparent);
    box-shadow: inset 3px 0 ${colour('rust')};
  }
  [slot='label'] {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  [slot='description'] {
    color: ${colour('soft')};
    font-size: 12px;
    max-width: 260px;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  footer {
    border-top: 1px solid ${colour('line')};
    padding: 6px ${space.l};
    font-size: 12px;
    color: ${colour('soft')};
  }
`;

const KINDS: Record<Schemas['Found']['kind'], string> = {
  tenant: 'Tenants',
  domain: 'Domains',
  stream: 'Streams',
  relay: 'Relays',
  sending_ip: 'Sending addresses',
  provider: 'Mailbox providers',
  item: 'Items',
  recipient: 'Recipients',
  suppressed: 'Suppression list',
  message: 'Messages',
  reply: 'Replies',
};

interface Row {
  path: string;
  name: string;
  about: string;
}

const isField = (target: EventTarget | null) =>
  target instanceof HTMLElement && (target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName));

/** The button in the header, the keys that open it, and the palette itself. */
export function Search() {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      const chord = event.key.toLowerCase() === 'k' && (event.ctrlKey || event.metaKey);
      const slash = event.key === '/' && !event.ctrlKey && !event.metaKey && !event.altKey && !isField(event.target);
      if (!chord && !slash) return;
      event.preventDefault();
      setOpen(true);
    };
    window.addEventListener('keydown', press);
    return () => window.removeEventListener('keydown', press);
  }, []);
  return (
    <>
      <Button onPress={() => setOpen(true)} needs="viewer" aria-label="Search (slash or Ctrl-K)">
        Search <kbd aria-hidden>/</kbd>
      </Button>
      <Overlay isOpen={open} onOpenChange={setOpen} isDismissable>
        <Box>
          <Dialog aria-label="Search">
            <Palette close={() => setOpen(false)} />
          </Dialog>
        </Box>
      </Overlay>
    </>
  );
}

function Palette({close}: {close: () => void}) {
  const {tenant} = useView();
  const navigate = useNavigate();
  const [text, setText] = useState('');
  const wanted = useLate(text.trim(), 120);
  const found = useSearch(wanted);
  const docs = useDocs();
  const {preferences} = usePreferences();
  // While newer results are under way, older ones stay only where they fit what is typed by now.
  const isOld = wanted !== text.trim() || found.isPlaceholderData;
  const fits = (each: Schemas['Found']) => !isOld || each.name.toLowerCase().includes(text.trim().toLowerCase());
  const items = text.trim().length > 1 ? found.data?.items.filter(fits) : [];
  const groups = groupsOf(text, tenant, items, docs.data?.searchDocs(text, 5), preferences.views);
  const nothing = groups.length === 0;
  return (
    <Autocomplete inputValue={text} onInputChange={setText}>
      {/* eslint-disable-next-line jsx-a11y/no-autofocus -- who opens it wants to type */}
      <SearchField aria-label="Search domains, addresses, message ids, replies, pages and documentation" autoFocus>
        <Input placeholder="Domain, address, message id, words of a reply, page…" />
      </SearchField>
      <Menu
        aria-label="Found"
        onAction={(path) => {
          close();
          void navigate(String(path));
        }}
        renderEmptyState={() => (
          <Soft style={{padding: '8px 16px'}}>
            {found.isFetching ? 'Searching…' : `Nothing fits “${text}”. Recipients and message ids are found whole.`}
          </Soft>
        )}
      >
        {groups.map(({title, rows}) => (
          <MenuSection key={title}>
            <Header>{title}</Header>
            {rows.map((row) => (
              <MenuItem key={row.path} id={row.path} textValue={`${row.name} ${row.about}`}>
                <Text slot="label">{row.name}</Text>
                <Text slot="description">{row.about}</Text>
              </MenuItem>
            ))}
          </MenuSection>
        ))}
      </Menu>
      <footer aria-hidden>
        {nothing ? 'Esc closes' : '↑ ↓ choose, Enter opens, Esc closes'}
        {found.data && found.data.more.length > 0 && wanted === text.trim() ? '. There are more: type on' : ''}
      </footer>
    </Autocomplete>
  );
}

/** What is offered, by kind. A place that several kinds lead to is offered once. */
function groupsOf(
  text: string,
  tenant: string,
  items: Schemas['Found'][] | undefined,
  sections: {doc: string; docTitle: string; title: string; anchor: string}[] = [],
  views: {name: string; path: string}[] = [],
): {title: string; rows: Row[]}[] {
  const seen = new Set<string>();
  const fresh = (rows: Row[]) => rows.filter((row) => !seen.has(row.path) && seen.add(row.path));
  const groups = [];
  for (const [kind, title] of Object.entries(KINDS)) {
    const mine = (items ?? []).filter((each) => each.kind === kind);
    const rows = mine.map((each) => ({
      path: each.path,
      name: each.name,
      about: [each.text, kind === 'tenant' ? '' : each.tenant_name].filter(Boolean).join(', '),
    }));
    groups.push({title, rows: fresh(rows)});
  }
  const wanted = text.trim().toLowerCase();
  const saved = views.filter((view) => view.name.toLowerCase().includes(wanted));
  groups.push({title: 'Saved views', rows: fresh(saved.map(({path, name}) => ({path, name, about: path})))});
  const places = placesFor(text);
  for (const [kind, title] of [
    ['page', 'Pages'],
    ['action', 'Actions'],
  ]) {
    const rows = places.filter((each) => each.kind === kind);
    groups.push({
      title: title!,
      rows: fresh(rows.map((each) => ({path: within(each.path, tenant), name: each.name, about: ''}))),
    });
  }
  const rows = sections.map((each) => ({
    path: `/docs/${each.doc}#${each.anchor}`,
    name: each.title,
    about: each.docTitle,
  }));
  groups.push({title: 'Documentation', rows: fresh(rows)});
  return groups.filter((group) => group.rows.length > 0);
}

/** A value once it has stayed the same for some milliseconds. */
function useLate(value: string, ms: number): string {
  const [late, setLate] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setLate(value), ms);
    return () => clearTimeout(timer);
  }, [value, ms]);
  return late;
}
