import { createGlobalStyle } from "styled-components";

/** Every colour, space and size of the console, by name. Light and dark follow the reader's system. */
export const GlobalStyle = createGlobalStyle`
  :root {
    color-scheme: light dark;
    --ground: light-dark(#f6f7f5, #14181a);
    --sheet: light-dark(#ffffff, #1c2224);
    --sunken: light-dark(#eef0ed, #101415);
    --line: light-dark(#d9ddd7, #323a3d);
    --ink: light-dark(#1d2528, #e4e9e8);
    --ink-soft: light-dark(#55605f, #a3afae);
    --accent: light-dark(#0b6157, #58c4b3);
    --accent-ink: light-dark(#ffffff, #0c1e1b);
    --accent-wash: light-dark(#e3efec, #1d322f);
    --good: light-dark(#22693a, #7fcf98);
    --warn: light-dark(#8a5200, #e8b565);
    --warn-wash: light-dark(#fbf0dd, #342a17);
    --bad: light-dark(#a52a2a, #f29a92);
    --bad-wash: light-dark(#fae7e5, #3a2020);
    --space-1: 4px;
    --space-2: 8px;
    --space-3: 12px;
    --space-4: 16px;
    --space-5: 24px;
    --space-6: 32px;
    --round: 6px;
    --text: system-ui, sans-serif;
    --code: ui-monospace, "DejaVu Sans Mono", monospace;
    --size-s: 12.5px;
    --size-m: 14px;
    --size-l: 17px;
    --size-xl: 22px;
  }
  * { box-sizing: border-box; }
  body { margin: 0; background: var(--ground); color: var(--ink); font: var(--size-m)/1.5 var(--text); }
  h1, h2, h3 { margin: 0; line-height: 1.25; font-weight: 600; }
  h1 { font-size: var(--size-xl); }
  h2 { font-size: var(--size-l); }
  h3 { font-size: var(--size-m); }
  p { margin: 0; }
  a { color: var(--accent); text-underline-offset: 2px; }
  code, pre { font-family: var(--code); font-size: var(--size-s); }
  :focus-visible { outline: 2px solid var(--accent); outline-offset: 2px; }
`;
