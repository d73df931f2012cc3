import {cleanup, render, screen} from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import {afterEach, describe, expect, it} from 'vitest';
import {withBrowserParts} from '../testing';
import {csvCell, toCsv} from './csv';
import {DataTable, type Column} from './DataTable';
import {ago, bare, firstDay, inZone, percent, plural, setTimeZone, short, stamp, time} from './format';
import {Plate} from './Plate';
import {pieces} from './RecordText';
import {sparkPoints} from './Spark';
import {TableMemoryProvider, type TableView} from './tableMemory';
import {conditionOf} from './tokens';

withBrowserParts();
afterEach(cleanup);

describe('numbers as people read them', () => {
  it.each([
    [0, '0'],
    [999, '999'],
    [1234, '1.2 k'],
    [41_000, '41 k'],
    [1_940_000, '1.94 M'],
  ])('shortens %d', (n, text) => expect(short(n)).toBe(text));

  it.each([
    [0.0031, '0.31 %'],
    [0.00996, '1.0 %'],
    [0.0001, '0.01 %'],
    [0.0000301, '0.0030 %'],
    [0.00000005, '0.0000050 %'],
    [0.021, '2.1 %'],
    [0, '0.00 %'],
    [1, '100.0 %'],
  ])('writes a share of %d with the digits it needs', (share, text) => {
    expect(percent(share)).toBe(text);
    expect(`${bare(share)} %`).toBe(text);
  });

  it('counts a period of days with today in it', () =>
    expect(firstDay(7, new Date('2026-11-20T23:59:00Z'))).toBe('2026-11-14'));

  it('says how long ago something was', () => {
    const now = new Date('2026-11-20T12:00:00Z');
    expect(ago('2026-11-20T11:59:50Z', now)).toBe('just now');
    expect(ago('2026-11-20T11:48:00Z', now)).toBe('12 min ago');
    expect(ago('2026-11-19T12:00:00Z', now)).toBe('24 h ago');
    expect(ago('2026-11-10T12:00:00Z', now)).toBe('10 days ago');
  });

  it('makes one fault and two faults', () => {
    expect(plural(1, 'fault')).toBe('1 fault');
    expect(plural(2000, 'fault')).toBe('2,000 faults');
  });
});

describe('CSV', () => {
  it.each([
    ['=1+1', "'=1+1"],
    ['@x', "'@x"],
    ['-x', "'-x"],
    ['a,"b"', '"a,""b"""'],
    [-3, '-3'],
    ['+44 1234', '+44 1234'],
    ['x;=1+1', "x;'=1+1"],
    ["'=1", "''=1"],
    [null, ''],
  ])('writes %s so that it is no formula', (value, cell) => expect(csvCell(value)).toBe(cell));

  it('ends every row as RFC 4180 has it', () => expect(toCsv(['a', 'b'], [[1, 'x']])).toBe('a,b\r\n1,x\r\n'));
});

describe('marks in a record', () => {
  it('cuts the text at its marks and loses nothing', () => {
    const cut = pieces('v=spf1 ip4:x -all', [
      {column: 12, length: 1, level: 'fault'},
      {column: 14, length: 4, level: 'risk'},
    ]);
    expect(cut.map((piece) => piece.text).join('')).toBe('v=spf1 ip4:x -all');
    expect(cut.filter((piece) => piece.level).map((piece) => piece.text)).toEqual(['x', '-all']);
  });

  it('shortens marks that overlap and drops those outside', () => {
    const cut = pieces('abcdef', [
      {column: 2, length: 3, level: 'fault'},
      {column: 3, length: 3, level: 'risk'},
      {column: 99, length: 1, level: 'note'},
    ]);
    expect(cut.map((piece) => piece.text)).toEqual(['a', 'bcd', 'e', 'f']);
  });
});

describe('the plate', () => {
  it('says in words what it shows', () => {
    render(<Plate value={54} margin={4} label="Kestrelbox" />);
    expect(screen.getByRole('img', {name: 'Kestrelbox: 54 ± 4, corroded'})).toBeTruthy();
  });

  it('is an empty outline when there is too little mail', () => {
    const {container} = render(<Plate value={null} />);
    expect(screen.getByRole('img', {name: 'Too little mail for a reading'})).toBeTruthy();
    expect(container.querySelectorAll('path')).toHaveLength(0);
  });

  it.each([
    [90, 'sound', 0],
    [70, 'tarnished', 2],
    [50, 'corroded', 3],
    [20, 'seized', 0],
  ])('at %d has the mark of %s', (value, condition, pits) => {
    const {container} = render(<Plate value={value} />);
    expect(conditionOf(value)).toBe(condition);
    expect(container.querySelectorAll('circle')).toHaveLength(pits);
    expect(container.querySelectorAll('path')).toHaveLength(condition === 'seized' ? 2 : 1);
  });
});

describe('the spark line', () => {
  it('leaves a gap where nothing is known', () => expect(sparkPoints([90, 91, null, 80, 79], 34, 18)).toHaveLength(2));
  it('does not make a fall of noise', () => {
    const [line] = sparkPoints([90, 91, 90], 34, 18);
    const heights = line!.split(' ').map((point) => Number(point.split(',')[1]));
    expect(Math.max(...heights) - Math.min(...heights)).toBeLessThan(2);
  });
  it('draws nothing of a single day', () => expect(sparkPoints([90], 34, 18)).toEqual([]));
});

describe('a table', () => {
  const rows = Array.from({length: 14}, (_, n) => ({name: `relay-${n}`, sent: n * 10, note: n % 2 ? 'odd' : 'even'}));
  const columns: Column<(typeof rows)[number]>[] = [
    {name: 'Relay', value: (row) => row.name},
    {name: 'Sent', value: (row) => row.sent, number: true},
    {name: 'Note', value: (row) => row.note},
    {name: 'Half', value: (row) => row.sent / 2, number: true},
  ];
  const table = <DataTable label="Relays" columns={columns} rows={rows} id={(row) => row.name} file="relays.csv" />;

  it('remembers what it is sorted by and which columns are hidden', async () => {
    const kept: Record<string, TableView> = {};
    const memory = () => ({views: {...kept}, remember: (name: string, view: TableView) => void (kept[name] = view)});
    const shown = render(<TableMemoryProvider value={memory()}>{table}</TableMemoryProvider>);
    await userEvent.click(screen.getByRole('button', {name: 'Sent'}));
    expect(kept.Relays).toEqual({hidden: [], sort: 'Sent', descending: true});
    shown.rerender(<TableMemoryProvider value={memory()}>{table}</TableMemoryProvider>);
    expect(screen.getAllByRole('row')[1]!.textContent).toContain('relay-13');
    await userEvent.click(screen.getByRole('button', {name: 'Columns'}));
    await userEvent.click(await screen.findByRole('menuitemcheckbox', {name: 'Note'}));
    expect(kept.Relays).toEqual({hidden: ['Note'], sort: 'Sent', descending: true});
    shown.unmount();
    render(<TableMemoryProvider value={memory()}>{table}</TableMemoryProvider>);
    expect(screen.queryByRole('columnheader', {name: 'Note'})).toBeNull();
    expect(screen.getByRole('columnheader', {name: /Half/})).toBeTruthy();
  });

  it('shows the rows that contain what is typed, and says when none does', async () => {
    render(table);
    const field = screen.getByRole('textbox', {name: 'Filter Relays'});
    await userEvent.type(field, 'RELAY-1');
    expect(screen.getAllByRole('row')).toHaveLength(6); // the head, relay-1 and relay-10 to relay-13
    expect(screen.getByText('5 of 14')).toBeTruthy();
    await userEvent.type(field, '9');
    expect(screen.getByText('No row contains “RELAY-19”.')).toBeTruthy();
  });
});

describe('moments', () => {
  afterEach(() => setTimeZone('UTC'));

  it.each([
    ['UTC', '20 Nov, 23:30', '2026-11-20 23:30:05'],
    ['Europe/Lisbon', '20 Nov, 23:30', '2026-11-20 23:30:05'],
    ['Asia/Kolkata', '21 Nov, 05:00', '2026-11-21 05:00:05'],
    ['Not/There', '20 Nov, 23:30', '2026-11-20 23:30:05'],
  ])('are shown in the zone %s', (zone, short, exact) => {
    setTimeZone(zone);
    expect([time('2026-11-20T23:30:05Z'), stamp('2026-11-20T23:30:05Z')]).toEqual([short, exact]);
    expect(inZone('Time')).toBe(zone === 'Not/There' ? 'Time (UTC)' : `Time (${zone})`);
  });
});
