/** What a person's role allows here: buttons and forms that need more than their role are not shown. The service checks again. */
import {createContext, useContext, type ReactNode} from 'react';

export type Role = 'viewer' | 'operator' | 'admin';
const RANKS: Role[] = ['viewer', 'operator', 'admin'];
// Outside of both, as before signing in, nothing is hidden.
const Has = createContext<Role | null>(null);
const NeedsRole = createContext<Role>('viewer');

/** The role of whoever looks, in the tenant that is looked at. */
export const HasRole = ({own, children}: {own: Role; children: ReactNode}) => (
  <Has.Provider value={own}>{children}</Has.Provider>
);

/** What changes something inside needs this role, unless it says otherwise. */
export const Needs = ({least, children}: {least: Role; children: ReactNode}) => (
  <NeedsRole.Provider value={least}>{children}</NeedsRole.Provider>
);

/** Whether whoever looks may do what needs a role; without one, what is usual here. */
export function useMay(needs?: Role): boolean {
  const has = useContext(Has);
  const usual = useContext(NeedsRole);
  return has === null || RANKS.indexOf(has) >= RANKS.indexOf(needs ?? usual);
}

/** Shown to those who may. */
export const May = ({needs, children}: {needs?: Role; children: ReactNode}) => (useMay(needs) ? <>{children}</> : null);
