/** A table that sorts, keeps its head in sight, and exports what it shows. */
import {useMemo, useState, type ReactNode} from 'react';
import styled from 'styled-components';
import {Button} from './Button';
import {download, toCsv, toNdjson, type Cell} from './csv';
import {colour} from './tokens';

export interface Column<Row> {
  name: string;
  /** What is sorted by and exported. */
  value: (row: Row) => Cell;
  /** What is shown; the value without it. */
  show?: (row: Row) => ReactNode;
  number?: boolean;
  /** Holds buttons: neither sorted by nor exported. */
  tool?: boolean;
}

const Frame = styled.div`
  overflow-x: auto;
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
  tr:last-child td {
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

interface DataTableProps<Row> {
  label: string;
  columns: Column<Row>[];
  rows: Row[];
  id: (row: Row) => string;
  total?: Row;
  file?: string;
}

export function DataTable<Row>({label, columns, rows, id, total, file}: DataTableProps<Row>) {
  const [order, setOrder] = useState<{name: string; down: boolean} | null>(null);
  const sorted = useMemo(() => {
    const by = columns.find((column) => column.name === order?.name);
    if (!by || !order) return rows;
    const sign = order.down ? -1 : 1;
    return [...rows].sort((a, b) => sign * compare(by.value(a), by.value(b)));
  }, [rows, columns, order]);
  const press = (column: Column<Row>) =>
    setOrder((now) =>
      now?.name === column.name ? {name: column.name, down: !now.down} : {name: column.name, down: !!column.number},
    );
  /** What is shown, without columns that only hold buttons. */
  const exported = (): [string[], Cell[][]] => {
    const told = columns.filter((column) => !column.tool);
    const all = [...sorted, ...(total ? [total] : [])];
    return [told.map((column) => column.name), all.map((row) => told.map((column) => column.value(row)))];
  };
  const cells = (row: Row) =>
    columns.map((column) => (
      <td key={column.name} className={column.number ? 'number' : undefined}>
        {column.show ? column.show(row) : column.value(row)}
      </td>
    ));
  return (
    <>
      <Frame>
        <Table aria-label={label}>
          <thead>
            <tr>
              {columns.map((column) =>
                column.name === '' ? (
                  <td key="" />
                ) : (
                  <th
                    key={column.name}
                    className={column.number ? 'number' : undefined}
                    aria-sort={order?.name === column.name ? (order.down ? 'descending' : 'ascending') : undefined}
                  >
                    {column.tool ? (
                      column.name
                    ) : (
                      <button type="button" onClick={() => press(column)}>
                        {column.name}
                        {order?.name === column.name ? (order.down ? ' ↓' : ' ↑') : ''}
                      </button>
                    )}
                  </th>
                ),
              )}
            </tr>
          </thead>
          <tbody>
            {sorted.map((row) => (
              <tr key={id(row)}>{cells(row)}</tr>
            ))}
            {total && <tr className="total">{cells(total)}</tr>}
          </tbody>
        </Table>
      </Frame>
      {file && (
        <p style={{marginTop: 8, fontSize: 12, display: 'flex', gap: 12}}>
          <Button tone="link" onPress={() => download(file, toCsv(...exported()))}>
            Export CSV
          </Button>
          <Button
            tone="link"
            onPress={() => download(file.replace(/csv$/, 'ndjson'), toNdjson(...exported()), 'application/x-ndjson')}
          >
            NDJSON
          </Button>
        </p>
      )}
    </>
  );
}

function compare(a: Cell, b: Cell): number {
  if (a == null || b == null) return a == null ? (b == null ? 0 : -1) : 1;
  return typeof a === 'number' && typeof b === 'number' ? a - b : String(a).localeCompare(String(b));
}
