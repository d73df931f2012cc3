/** Sizes, type and the two themes. Colours of conditions keep AA contrast on the sheet of their theme. */
export const space = {xs: '4px', s: '8px', m: '12px', l: '16px', xl: '20px', xxl: '32px'} as const;
export const font = {
  sans: "'IBM Plex Sans', system-ui, sans-serif",
  mono: "'IBM Plex Mono', ui-monospace, monospace",
} as const;
export const narrow = '@media (max-width: 860px)';

export type Condition = 'sound' | 'tarnished' | 'corroded' | 'seized';
export const conditions: Condition[] = ['sound', 'tarnished', 'corroded', 'seized'];
export const advice: Record<Condition, string> = {
  sound: 'keep sending',
  tarnished: 'investigate',
  corroded: 'slow down and fix',
  seized: 'stop sending',
};
/** The lowest reading of each condition. */
export const floors: Record<Condition, number> = {sound: 80, tarnished: 60, corroded: 35, seized: 0};

export const conditionOf = (value: number): Condition => conditions.find((each) => value >= floors[each]) ?? 'seized';

const light = {
  paper: '#F6F3EE',
  sheet: '#FFFDF9',
  ink: '#22262A',
  soft: '#646159',
  line: '#DDD6CA',
  sound: '#2A766D',
  tarnished: '#86641A',
  corroded: '#AC4A1A',
  seized: '#6B1F1A',
  rust: '#B4501E',
};
const dark: typeof light = {
  paper: '#16191B',
  sheet: '#1E2225',
  ink: '#E9E5DD',
  soft: '#A8A398',
  line: '#343A3E',
  sound: '#5FB3A6',
  tarnished: '#D3A941',
  corroded: '#E07B45',
  seized: '#D9706A',
  rust: '#E07B45',
};
export const themes = {light, dark};
export type Colour = keyof typeof light;

/** A colour as a CSS variable, so that both themes share every style sheet. */
export const colour = (name: Colour): string => `var(--${name})`;
