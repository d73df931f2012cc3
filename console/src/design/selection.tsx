/** Rows that are chosen for an action on all of them at once. */
import {useState, type ReactNode} from 'react';
import styled from 'styled-components';
import {Button} from './Button';
import {count} from './format';
import {colour, space} from './tokens';

export interface Selection {
  /** Those of the list that are chosen, in its order. */
  ids: string[];
  has: (id: string) => boolean;
  toggle: (id: string) => void;
  /** Chooses all of the list, or none when all are chosen. */
  toggleAll: () => void;
  clear: () => void;
  all: boolean;
}

/** `ids` of the list as it is shown: what is not in it any more is not chosen any more. */
export function useSelection(ids: readonly string[]): Selection {
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const kept = ids.filter((id) => chosen.has(id));
  const all = ids.length > 0 && kept.length === ids.length;
  return {
    ids: kept,
    has: (id) => chosen.has(id),
    toggle: (id) =>
      setChosen((now) => {
        const next = new Set(now);
        if (!next.delete(id)) next.add(id);
        return next;
      }),
    toggleAll: () => setChosen(all ? new Set() : new Set(ids)),
    clear: () => setChosen(new Set()),
    all,
  };
}

const Bar = styled.div`
  position: sticky;
  top: 0;
  z-index: 5;
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s};
  align-items: end;
  padding: ${space.s} ${space.m};
  background: ${colour('sheet')};
  border: 1px solid ${colour('ink')};
  border-radius: 4px;
  font-size: 13px;
  > b,
  > button:last-child {
    padding-bottom: 5px;
  }
`;

/** How many are chosen and what can be done with them; nothing while none are. */
export const SelectionBar = ({selection, of, children}: {selection: Selection; of: string; children: ReactNode}) =>
  selection.ids.length === 0 ? null : (
    <Bar role="group" aria-label={`Selected ${of}`}>
      <b>{count(selection.ids.length)} selected</b>
      {children}
      <Button tone="link" onPress={selection.clear}>
        Clear selection
      </Button>
    </Bar>
  );
