import {useMemo, useState, type ReactNode} from 'react';
import {Link, NavLink, useLocation} from 'react-router';
import styled from 'styled-components';
import {api, type Schemas} from '../api/client';
import {useFollow} from '../api/follow';
import {useViews} from '../api/views';
import {usePreferences, useSetPreferences} from '../features/session/preferences';
import {Choice} from '../design/Choice';
import {DoneRegion} from '../design/Done';
import {Search} from '../features/search/Palette';
import {HasRole, Needs, type Role} from '../design/may';
import {Notice} from '../design/Notice';
import {TableMemoryProvider, type TableView} from '../design/tableMemory';
import {colour, narrow, space} from '../design/tokens';
import {periods, periodOf, useView} from './view';
import {Views} from './Views';
import {applyTheme, savedTheme, type ThemeChoice} from './theme';

/** What gives way where the header is full. */
const Giving = styled.div`
  min-width: 0;
`;
const Bar = styled.header`
  display: flex;
  align-items: center;
  gap: ${space.m};
  min-height: 48px;
  padding: 0 ${space.xl};
  background: ${colour('sheet')};
  border-bottom: 1px solid ${colour('line')};
  nav {
    display: flex;
    gap: 2px;
    flex: 1;
    overflow-x: auto;
  }
  /* A long name of a tenant gives way to the pages: its list shows it whole. */
  @media (min-width: 1200px) {
    nav {
      flex: 1 0 auto;
    }
    nav ~ *:not(${Giving}) {
      flex-shrink: 0;
    }
  }
  nav a {
    padding: 14px 9px 12px;
    color: ${colour('soft')};
    text-decoration: none;
    border-bottom: 2px solid transparent;
    white-space: nowrap;
  }
  nav a.active {
    color: ${colour('ink')};
    border-color: ${colour('rust')};
    font-weight: 600;
  }
  ${narrow} {
    flex-wrap: wrap;
    padding: 0 ${space.m};
    gap: 0 ${space.xs};
    nav {
      order: 3;
      flex-basis: 100%;
    }
  }
`;
const Mark = styled(NavLink)`
  display: flex;
  gap: ${space.s};
  align-items: center;
  font-weight: 600;
  font-size: 15px;
  text-decoration: none;
  white-space: nowrap;
  ${narrow} {
    flex: 1;
    padding: 10px 0;
  }
`;
const Main = styled.main`
  padding: 18px ${space.xl} ${space.xxl};
  ${narrow} {
    padding: ${space.m};
  }
  @media print {
    padding: 0;
  }
`;

/** Says that views are slower now, and why; they are right all the same. */
function Behind() {
  const views = useViews();
  if (!views?.fromPrimary) return null;
  const why =
    views.lag === undefined ? 'the replica does not answer' : `the replica is ${Math.round(views.lag)} s behind`;
  return <Notice title={`Views come from the primary database: ${why}`}>They are complete, and may be slower.</Notice>;
}

export function Shell({who, children}: {who: Schemas['Who']; children: ReactNode}) {
  useFollow();
  const {preferences} = usePreferences();
  const {mutate: setPreferences} = useSetPreferences();
  const tables = useMemo(
    () => ({
      views: Object.fromEntries(
        Object.entries(preferences.tables).map(([name, view]) => [
          name,
          {hidden: view.hidden ?? [], sort: view.sort ?? '', descending: view.descending ?? false},
        ]),
      ),
      remember: (name: string, view: TableView) =>
        setPreferences({tables: {...preferences.tables, [name.slice(0, 100)]: view}}),
    }),
    [preferences.tables, setPreferences],
  );
  const view = useView(7, 365);
  const location = useLocation();
  const slug = tenantOf(location.pathname);
  const one = slug !== '' && !location.pathname.startsWith('/worklist');
  const onBench = /^\/(bench|placement)(\/|$)/.test(location.pathname);
  const period = periodOf(location.pathname, view.get('view'));
  const tenants = who.tenants.map((each) => ({value: each.slug, label: each.name}));
  const all = ['/', '/domains', '/readings'].includes(location.pathname) || location.pathname.startsWith('/worklist');
  const kept = slug || view.tenant;
  const keep = kept ? `?tenant=${kept}` : '';
  return (
    <DoneRegion>
      <Bar>
        <Mark to="/">
          <svg width="22" height="22" viewBox="0 0 22 22" aria-hidden>
            <path d="M2 6h18v14H2z" fill="none" stroke="currentColor" strokeWidth="1.4" />
            <path d="M2 11l3-1.2 2.5 1.6 3-2.2 3.2 2 2.8-1.4 3.5 1.6V20H2z" fill={colour('rust')} />
          </svg>
          Rust Gauge
        </Mark>
        <nav aria-label="Main">
          <NavLink to={`/${keep}`} end>
            Wall
          </NavLink>
          <NavLink to={`/worklist${keep}`}>Worklist</NavLink>
          <NavLink to={`/domains${keep}`}>Domains</NavLink>
          <NavLink to={`/flow${keep}`}>Mail flow</NavLink>
          <NavLink to={`/suppression${keep}`}>Suppression</NavLink>
          <NavLink to={`/readings${keep}`}>Readings</NavLink>
          <Link
            to={`/bench${keep}`}
            aria-current={onBench ? 'page' : undefined}
            className={onBench ? 'active' : undefined}
          >
            Bench
          </Link>
          <NavLink to={`/settings${keep}`}>Settings</NavLink>
        </nav>
        {!one && tenants.length > 0 && !location.pathname.startsWith('/docs') && (
          <Giving>
            <Choice
              label="Tenant"
              value={view.tenant || (all ? 'all' : tenants[0]!.value)}
              options={all ? [{value: 'all', label: 'All tenants'}, ...tenants] : tenants}
              onChange={(tenant) => view.go('tenant', tenant === 'all' ? '' : tenant)}
            />
          </Giving>
        )}
        {period && (
          <Choice
            label="Period"
            value={String(view.get('days') ? Math.min(view.days, period.most) : period.usual)}
            options={periods
              .filter((days) => days <= period.most)
              .map((days) => ({value: String(days), label: `Last ${days} days`}))}
            onChange={(days) => view.go('days', days)}
          />
        )}
        <Views />
        <Search />
        <Person who={who} />
      </Bar>
      <Main>
        <Behind />
        <HasRole own={roleAt(who, location.pathname, view.tenant)}>
          <Needs least="operator">
            <TableMemoryProvider value={tables}>{children}</TableMemoryProvider>
          </Needs>
        </HasRole>
      </Main>
    </DoneRegion>
  );
}

const RANKS = ['viewer', 'operator', 'admin'] as const;

/** The tenant that an address is about; empty where it is about none, or several. */
const tenantOf = (path: string): string =>
  path === '/domains/reports'
    ? ''
    : (/^\/(?:domains|readings|worklist|bench|placement)\/([^/]+)/.exec(path)?.[1] ?? '');

/** The role in the tenant of the page; where a page is about all tenants, the highest: each change is checked again. */
function roleAt(who: Schemas['Who'], path: string, chosen: string): Role {
  const slug = tenantOf(path) || chosen;
  const one = who.tenants.find((each) => each.slug === slug);
  if (one) return one.role;
  const all = ['/', '/domains', '/readings', '/worklist'].includes(path);
  if (!all && who.tenants[0]) return who.tenants[0].role;
  return [...who.tenants.map((each) => each.role)].sort((a, b) => RANKS.indexOf(b) - RANKS.indexOf(a))[0] ?? 'viewer';
}

function Person({who}: {who: Schemas['Who']}) {
  const [theme, setTheme] = useState<ThemeChoice>(savedTheme());
  const initials = who.name
    .split(/\s+/)
    .map((word) => word[0])
    .join('')
    .slice(0, 2);
  const choose = async (value: string) => {
    if (value === 'sign-out') {
      await api.DELETE('/api/v1/session');
      window.location.assign('/'); // a fresh page holds nothing of whoever was here
      return;
    }
    applyTheme(value as ThemeChoice);
    setTheme(value as ThemeChoice);
  };
  return (
    <Choice
      label={`${initials}, ${who.name}: theme and sign out`}
      value={theme}
      options={[
        {value: 'system', label: 'Theme: system'},
        {value: 'light', label: 'Theme: light'},
        {value: 'dark', label: 'Theme: dark'},
        {value: 'sign-out', label: 'Sign out'},
      ]}
      shown={initials}
      onChange={(value) => void choose(value)}
    />
  );
}
