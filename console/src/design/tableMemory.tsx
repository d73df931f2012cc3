/** How a person wants to see each table: what is hidden, and what it is sorted by. Where it is kept is for the shell. */
import {createContext, useContext, useState} from 'react';

export interface TableView {
  hidden: string[];
  sort: string;
  descending: boolean;
}
interface TableMemory {
  views: Record<string, TableView>;
  remember: (table: string, view: TableView) => void;
}

const Memory = createContext<TableMemory | null>(null);
export const TableMemoryProvider = Memory.Provider;
const USUAL: TableView = {hidden: [], sort: '', descending: false};

/** The view of a table and how to change it; where nothing is remembered it lasts as long as the table is shown. */
export function useTableView(table: string): [TableView, (view: TableView) => void] {
  const memory = useContext(Memory);
  const [own, setOwn] = useState(USUAL);
  if (!memory) return [own, setOwn];
  return [memory.views[table] ?? USUAL, (view) => memory.remember(table, view)];
}
