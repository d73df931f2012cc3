/** A chart with its table: the same control everywhere, for the figures behind it and for CSV, PNG and SVG. */
import {useRef, useState, type ReactNode} from 'react';
import styled from 'styled-components';
import {Button} from './Button';
import {chartSvg, downloadPng, downloadSvg} from './chartFile';
import {download, toCsv} from './csv';
import {DataTable, type Column} from './DataTable';
import {useDone} from './Done';
import {space} from './tokens';
import {ZoomBar, type Zoom} from './zoom';

const Tools = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 4px ${space.m};
  margin-top: ${space.s};
  @media print {
    display: none;
  }
`;

interface ChartViewProps<Row> {
  /** What the chart and its table are of. */
  label: string;
  /** Name of the files, without an ending. */
  file: string;
  columns: Column<Row>[];
  rows: Row[];
  id: (row: Row) => string;
  /** The chart. Texts beside the drawings that belong into a picture have `data-chart-text`. */
  children: ReactNode;
  /** The part of the period that chart and table show; without one there is no zoom. */
  zoom?: Zoom;
  /** Shown below the table only. */
  more?: ReactNode;
}

export function ChartView<Row>({label, file, columns, rows, id, children, more, zoom}: ChartViewProps<Row>) {
  const [table, setTable] = useState(false);
  const drawn = useRef<HTMLDivElement>(null);
  const tell = useDone();
  const csv = () => {
    const told = columns.filter((column) => !column.tool);
    const cells = rows.map((row) => told.map((column) => column.value(row)));
    download(`${file}.csv`, toCsv(told.map((column) => column.name), cells)); // prettier-ignore
  };
  const picture = (as: (name: string, svg: string) => void | Promise<void>) => async () => {
    if (!drawn.current) return;
    try {
      await as(file, chartSvg(drawn.current, label));
    } catch {
      tell({text: 'This browser did not draw the chart. Download it as SVG instead.'});
    }
  };
  return (
    <>
      {table ? (
        <>
          <DataTable label={label} columns={columns} rows={rows} id={id} file={`${file}.csv`} />
          {more}
        </>
      ) : (
        <div ref={drawn}>{children}</div>
      )}
      {zoom && <ZoomBar zoom={zoom} of={label} />}
      <Tools role="group" aria-label={`${label}: table and files`}>
        <Button tone="link" needs="viewer" onPress={() => setTable(!table)}>
          {table ? 'Show chart' : 'Show table'}
        </Button>
        {!table && (
          <>
            <Button tone="link" needs="viewer" onPress={csv}>
              CSV
            </Button>
            <Button tone="link" needs="viewer" onPress={() => void picture(downloadPng)()}>
              PNG
            </Button>
            <Button tone="link" needs="viewer" onPress={() => void picture(downloadSvg)()}>
              SVG
            </Button>
          </>
        )}
      </Tools>
    </>
  );
}
