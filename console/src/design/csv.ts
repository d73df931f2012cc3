/** Tables as CSV (RFC 4180) that no spreadsheet takes for a formula. */
export type Cell = string | number | null | undefined;

// At the start of a cell, or behind what some spreadsheets take for the end of one.
const FORMULA = /(^|[;\t])('*)(?=[=+\-@\t\r\n])/g;
const NUMBER = /^([+-]?\d+([.,]\d+)?|\+\d[\d ]*)$/;

export function csvCell(value: Cell): string {
  if (value == null) return '';
  if (typeof value === 'number') return String(value);
  const safe = NUMBER.test(value) ? value : value.replace(FORMULA, "$1'$2");
  return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}

export const toCsv = (columns: string[], rows: Cell[][]): string =>
  [columns, ...rows].map((row) => row.map(csvCell).join(',')).join('\r\n') + '\r\n';

/** The same rows as NDJSON, one object a line, numbers as numbers. */
export const toNdjson = (columns: string[], rows: Cell[][]): string =>
  rows.map((row) => JSON.stringify(Object.fromEntries(columns.map((name, i) => [name, row[i] ?? null])))).join('\n') +
  '\n';

export function download(name: string, content: string | Blob, type = 'text/csv;charset=utf-8') {
  const link = document.createElement('a');
  link.href = URL.createObjectURL(content instanceof Blob ? content : new Blob([content], {type}));
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}
