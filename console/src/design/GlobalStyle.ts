import {createGlobalStyle, css} from 'styled-components';
import {colour, font, themes} from './tokens';

const variables = (theme: Record<string, string>) =>
  Object.entries(theme)
    .map(([name, value]) => `--${name}: ${value};`)
    .join('');

export const GlobalStyle = createGlobalStyle`
  ${css`
    :root {
      ${variables(themes.light)} color-scheme: light;
    }
    @media (prefers-color-scheme: dark) {
      :root:not([data-theme='light']) {
        ${variables(themes.dark)} color-scheme: dark;
      }
    }
    :root[data-theme='dark'] {
      ${variables(themes.dark)} color-scheme: dark;
    }
    * {
      box-sizing: border-box;
    }
    body {
      margin: 0;
      background: ${colour('paper')};
      color: ${colour('ink')};
      font: 14px/1.45 ${font.sans};
      font-variant-numeric: tabular-nums;
    }
    h1 {
      font-size: 22px;
      font-weight: 600;
      margin: 0;
    }
    h2 {
      font-size: 15px;
      font-weight: 600;
      margin: 0;
    }
    p {
      margin: 0;
    }
    a {
      color: inherit;
    }
    a:focus-visible,
    button:focus-visible {
      outline: 2px solid ${colour('rust')};
      outline-offset: 2px;
    }
    @media print {
      :root {
        ${variables(themes.light)} color-scheme: light;
      }
      header,
      nav,
      button {
        display: none !important;
      }
    }
  `}
`;
