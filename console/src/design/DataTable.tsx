/** A table that sorts, filters, hides columns, remembers how, and exports what it shows. */
import {useMemo, useState, type ReactNode} from 'react';
import {Input, Menu, MenuItem, MenuTrigger, Popover, TextField} from 'react-aria-components';
import styled from 'styled-components';
import {About, type Meaning} from './About';
import {Button} from './Button';
import {CheckField} from './CheckField';
import {download, toCsv, toNdjson, type Cell} from './csv';
import type {Selection} from './selection';
import {useTableView} from './tableMemory';
import {colour, font} from './tokens';

export interface Column<Row> {
  name: string;
  /** What is sorted by and exported. */
  value: (row: Row) => Cell;
  /** What is shown; the value without it. */
  show?: (row: Row) => ReactNode;
  number?: boolean;
  /** Holds buttons: neither sorted by nor exported. */
  tool?: boolean;
  /** What the numbers of the column are; opened beside its head. */
  about?: Meaning;
}

const Frame = styled.div`
  overflow-x: auto;
  position: relative; /* what is hidden in a cell must not widen the page */
`;
const Table = styled.table`
  width: 100%;
  border-collapse: collapse;
  th {
    font-size: 12px;
    font-weight: 600;
    color: ${colour('soft')};
    border-bottom: 1px solid ${colour('line')};
  }
  th,
  td {
    padding: 5px 8px;
    text-align: left;
    white-space: nowrap;
  }
  td {
    border-bottom: 1px solid ${colour('line')};
  }
  tbody tr:last-child td {
    border-bottom: 0;
  }
  .number {
    text-align: right;
  }
  th button {
    font: inherit;
    color: inherit;
    background: none;
    border: 0;
    padding: 4px 0;
    cursor: pointer;
  }
  tr.total td {
    font-weight: 600;
    border-top: 1px solid ${colour('soft')};
  }
`;

const Tools = styled.div`
  margin: 8px 0;
  font-size: 12px;
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 4px 12px;
  input {
    font: 13px ${font.sans};
    padding: 4px 8px;
    color: ${colour('ink')};
    background: ${colour('sheet')};
    border: 1px solid ${colour('line')};
    border-radius: 4px;
    width: 20ch;
  }
  input[data-focused] {
    outline: 2px solid ${colour('rust')};
  }
`;
const Columns = styled(Menu<object>)`
  background: ${colour('sheet')};
  color: ${colour('ink')};
  border: 1px solid ${colour('line')};
  border-radius: 4px;
  padding: 4px;
  max-height: 50vh;
  overflow: auto;
  outline: none;
  [role^='menuitem'] {
    padding: 5px 10px;
    font-size: 13px;
    cursor: pointer;
    outline: none;
  }
  [role^='menuitem'][data-focused] {
    background: color-mix(in srgb, ${colour('line')} 55%, transparent);
  }
`;
const FILTERED_FROM = 12; // rows; fewer are seen at a glance
const CHOSEN_FROM = 4; // columns

interface DataTableProps<Row> {
  label: string;
  columns: Column<Row>[];
  rows: Row[];
  id: (row: Row) => string;
  total?: Row;
  file?: string;
  /** Rows can be chosen, for an action on all of them. */
  selection?: Selection;
}

export function DataTable<Row>({label, columns, rows, id, total, file, selection}: DataTableProps<Row>) {
  const [view, setView] = useTableView(label);
  const [text, setText] = useState('');
  const {sort, descending} = view;
  const words = text.trim().toLowerCase();
  const sorted = useMemo(() => {
    const fits = (row: Row) =>
      columns.some(
        (column) =>
          !column.tool &&
          String(column.value(row) ?? '')
            .toLowerCase()
            .includes(words),
      );
    const found = words ? rows.filter(fits) : rows;
    const by = columns.find((column) => column.name === sort);
    if (!by) return found;
    const sign = descending ? -1 : 1;
    return [...found].sort((a, b) => sign * compare(by.value(a), by.value(b)));
  }, [rows, columns, sort, descending, words]);
  const press = (column: Column<Row>) =>
    setView({
      ...view,
      sort: column.name,
      descending: sort === column.name ? !descending : !!column.number,
    });
  // The first column says what a row is, and stays.
  const optional = columns.slice(1).filter((column) => column.name !== '' && !column.tool);
  const shown = columns.filter((column) => !optional.includes(column) || !view.hidden.includes(column.name));
  const hidden = columns.length - shown.length;
  /** What is shown, without columns that only hold buttons. */
  const exported = (): [string[], Cell[][]] => {
    const told = shown.filter((column) => !column.tool);
    const all = [...sorted, ...(total && !words ? [total] : [])];
    return [told.map((column) => column.name), all.map((row) => told.map((column) => column.value(row)))];
  };
  const cells = (row: Row) =>
    shown.map((column) => (
      <td key={column.name} className={column.number ? 'number' : undefined}>
        {column.show ? column.show(row) : column.value(row)}
      </td>
    ));
  const isLong = rows.length >= FILTERED_FROM; // then nobody scrolls to the end to filter
  const tools = file && (
    <Tools>
      {isLong && (
        <TextField aria-label={`Filter ${label}`} value={text} onChange={setText}>
          <Input placeholder="Filter rows" />
        </TextField>
      )}
      {words !== '' && (
        <span>
          {sorted.length} of {rows.length}
        </span>
      )}
      {columns.length >= CHOSEN_FROM && optional.length > 0 && (
        <MenuTrigger>
          <Button tone="link">{hidden ? `Columns (${hidden} hidden)` : 'Columns'}</Button>
          <Popover>
            <Columns
              aria-label={`Columns of ${label}`}
              selectionMode="multiple"
              selectedKeys={optional.filter((each) => !view.hidden.includes(each.name)).map((each) => each.name)}
              onSelectionChange={(chosen) =>
                setView({
                  ...view,
                  hidden: optional
                    .filter((each) => chosen !== 'all' && !chosen.has(each.name))
                    .map((each) => each.name),
                })
              }
            >
              {optional.map((column) => (
                <MenuItem key={column.name} id={column.name} textValue={column.name} aria-label={column.name}>
                  {({isSelected}) => `${isSelected ? '✓' : '\u2007'} ${column.name}`}
                </MenuItem>
              ))}
            </Columns>
          </Popover>
        </MenuTrigger>
      )}
      <Button tone="link" onPress={() => download(file, toCsv(...exported()))}>
        Export CSV
      </Button>
      <Button
        tone="link"
        onPress={() => download(file.replace(/csv$/, 'ndjson'), toNdjson(...exported()), 'application/x-ndjson')}
      >
        NDJSON
      </Button>
    </Tools>
  );
  return (
    <>
      {isLong && tools}
      <Frame>
        <Table aria-label={label}>
          <thead>
            <tr>
              {selection && (
                <td>
                  <CheckField
                    label={`Select all rows of ${label}`}
                    hidden
                    isSelected={selection.all}
                    isIndeterminate={selection.ids.length > 0 && !selection.all}
                    onChange={selection.toggleAll}
                  />
                </td>
              )}
              {shown.map((column) =>
                column.name === '' ? (
                  <td key="" />
                ) : (
                  <th
                    key={column.name}
                    className={column.number ? 'number' : undefined}
                    aria-label={column.about && column.name}
                    aria-sort={sort === column.name ? (descending ? 'descending' : 'ascending') : undefined}
                  >
                    {column.tool ? (
                      column.name
                    ) : (
                      <button type="button" onClick={() => press(column)}>
                        {column.name}
                        {sort === column.name ? (descending ? ' ↓' : ' ↑') : ''}
                      </button>
                    )}
                    {column.about && <About of={column.name} meaning={column.about} />}
                  </th>
                ),
              )}
            </tr>
          </thead>
          <tbody>
            {sorted.map((row) => (
              <tr key={id(row)}>
                {selection && (
                  <td>
                    <CheckField
                      label={`Select ${String(columns[0]!.value(row) ?? '')}`}
                      hidden
                      isSelected={selection.has(id(row))}
                      onChange={() => selection.toggle(id(row))}
                    />
                  </td>
                )}
                {cells(row)}
              </tr>
            ))}
            {sorted.length === 0 && rows.length > 0 && (
              <tr>
                <td colSpan={shown.length + (selection ? 1 : 0)}>No row contains “{text.trim()}”.</td>
              </tr>
            )}
            {total && !words && (
              <tr className="total">
                {selection && <td />}
                {cells(total)}
              </tr>
            )}
          </tbody>
        </Table>
      </Frame>
      {!isLong && tools}
    </>
  );
}

function compare(a: Cell, b: Cell): number {
  if (a == null || b == null) return a == null ? (b == null ? 0 : -1) : 1;
  return typeof a === 'number' && typeof b === 'number' ? a - b : String(a).localeCompare(String(b));
}
