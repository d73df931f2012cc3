/**
 * The plate: our glyph for a reading. A piece of metal whose remaining thickness is the reading and whose hatched edge
 * is the margin. Each condition has its own surface, so that nothing hangs on colour alone: sound is even, tarnished
 * has specks, corroded a bitten edge and pits, seized a crack.
 */
import {useId} from 'react';
import {colour, conditionOf, type Condition} from './tokens';

const ROUGHNESS: Record<Condition, number> = {sound: 0, tarnished: 1.1, corroded: 2.6, seized: 3.4};
const STEPS = 6;

interface PlateProps {
  value: number | null | undefined;
  margin?: number | null;
  width?: number;
  height?: number;
  label?: string;
}

export function Plate({value, margin, width = 16, height = 32, label}: PlateProps) {
  const hatch = useId();
  const outline = {x: 0.75, y: 0.75, width: width - 1.5, height: height - 1.5, fill: 'none'};
  if (value == null) {
    return (
      <svg width={width} height={height} role="img" aria-label={label ?? 'Too little mail for a reading'}>
        <rect {...outline} stroke={colour('soft')} opacity={0.6} strokeDasharray="2 3" />
      </svg>
    );
  }
  const condition = conditionOf(value);
  const at = (level: number) => height - 1 - ((height - 2) * Math.min(100, Math.max(0, level))) / 100;
  const top = at(value);
  const above = at(value + (margin ?? 0));
  const rough = ROUGHNESS[condition];
  const edge = Array.from({length: STEPS - 1}, (_, i) => {
    const x = 1 + ((width - 2) * (i + 1)) / STEPS;
    return `L${x.toFixed(1)} ${Math.max(1, top + (i % 2 ? -rough / 2 : rough)).toFixed(1)}`;
  }).join(' ');
  const words = `${Math.round(value)}${margin ? ` ± ${Math.round(margin)}` : ''}, ${condition}`;
  return (
    <svg width={width} height={height} role="img" aria-label={label ? `${label}: ${words}` : words}>
      <defs>
        <pattern id={hatch} width="3" height="3" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <line x1="0" y1="0" x2="0" y2="3" stroke={colour('soft')} strokeWidth="1.1" />
        </pattern>
      </defs>
      <rect {...outline} stroke={colour('line')} strokeWidth={1.2} />
      <rect x={1} y={above} width={width - 2} height={Math.max(0, top - above)} fill={`url(#${hatch})`} />
      <path
        d={`M1 ${height - 1} L1 ${top} ${edge} L${width - 1} ${top} L${width - 1} ${height - 1}Z`}
        fill={colour(condition)}
      />
      <Surface condition={condition} width={width} height={height} />
    </svg>
  );
}

function Surface({condition, width, height}: {condition: Condition; width: number; height: number}) {
  const pit = (x: number, y: number, r: number) => (
    <circle key={x} cx={width * x} cy={height * y} r={(r * width) / 16} fill={colour('sheet')} />
  );
  if (condition === 'tarnished') return <>{[pit(0.35, 0.78, 1.1), pit(0.68, 0.62, 0.9)]}</>;
  if (condition === 'corroded') return <>{[pit(0.3, 0.8, 1.7), pit(0.66, 0.72, 1.3), pit(0.52, 0.9, 1)]}</>;
  if (condition === 'seized') {
    return <path d={`M1 ${height * 0.91} L${width - 1} ${height * 0.74}`} stroke={colour('sheet')} strokeWidth="2" />;
  }
  return null;
}
