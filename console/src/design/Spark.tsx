/** A trend as a line: what it did, not how much; the scale never makes noise look like a fall. */
import {colour, type Condition} from './tokens';

const LEAST_SPAN = 28; // points between bottom and top

export function sparkPoints(values: (number | null)[], width: number, height: number): string[] {
  const known = values.filter((value): value is number => value != null);
  if (known.length < 2) return [];
  const low = Math.min(...known);
  const high = Math.max(...known);
  const span = Math.max(LEAST_SPAN, (high - low) * 1.2);
  const middle = (low + high) / 2;
  const lines: string[] = [];
  let line: string[] = [];
  values.forEach((value, i) => {
    if (value == null) {
      if (line.length > 1) lines.push(line.join(' '));
      line = [];
      return;
    }
    const x = 1 + (i * (width - 2)) / (values.length - 1);
    line.push(`${x.toFixed(1)},${(height / 2 - ((height - 2) * (value - middle)) / span).toFixed(1)}`);
  });
  if (line.length > 1) lines.push(line.join(' '));
  return lines;
}

export function Spark({
  values,
  condition,
  width = 34,
  height = 18,
}: {
  values: (number | null)[];
  condition?: Condition | null;
  width?: number;
  height?: number;
}) {
  const loud = condition === 'corroded' || condition === 'seized';
  return (
    <svg width={width} height={height} aria-hidden>
      {sparkPoints(values, width, height).map((points) => (
        <polyline
          key={points}
          points={points}
          fill="none"
          stroke={colour(loud ? condition : 'soft')}
          strokeWidth={1.4}
        />
      ))}
    </svg>
  );
}
