import { createGlobalStyle } from "styled-components";

/** Two palettes: the chart table by day, and the bridge at night. All pairs used for text reach
 * a contrast of 4.5 to 1. */
const day = {
  sea: "#e9eeec",
  sheet: "#fbfcfa",
  ink: "#14262c",
  faded: "#4b6067",
  rule: "#c3cfcc",
  buoy: "#a93a1b",
  kelp: "#21644a",
  brass: "#7a5b10",
  wash: "#dbe7e2",
  spine: "#14262c",
  lettering: "#e9eeec",
};

const night: typeof day = {
  sea: "#0d171b",
  sheet: "#132025",
  ink: "#dde7e4",
  faded: "#93a9a8",
  rule: "#2b3d42",
  buoy: "#f08d66",
  kelp: "#83c9a4",
  brass: "#dcb861",
  wash: "#1c2f33",
  spine: "#060c0f",
  lettering: "#dde7e4",
};

const variables = (palette: typeof day) =>
  Object.entries(palette)
    .map(([name, value]) => `--${name}: ${value};`)
    .join(" ");

export const colour = Object.fromEntries(
  Object.keys(day).map((name) => [name, `var(--${name})`]),
) as Record<keyof typeof day, string>;

export const font = {
  book: '"Literata Variable", Georgia, serif',
  plain: '"Commissioner Variable", "Noto Sans", sans-serif',
};

const LIGHT = "fond-echo light";

/** Show a palette, and remember it in this browser, where it lets us. */
export function keepLight(light: "night" | "day") {
  document.documentElement.dataset.light = light;
  try {
    localStorage.setItem(LIGHT, light);
  } catch {
    // A browser that keeps nothing shows what its system wants next time.
  }
}

/** The palette that was chosen before. */
export function showKeptLight() {
  try {
    const light = localStorage.getItem(LIGHT);
    if (light) document.documentElement.dataset.light = light;
  } catch {
    // As above.
  }
}

export const GlobalStyle = createGlobalStyle`
  :root { ${variables(day)} color-scheme: light; }
  @media (prefers-color-scheme: dark) {
    :root:not([data-light="day"]) { ${variables(night)} color-scheme: dark; }
  }
  :root[data-light="night"] { ${variables(night)} color-scheme: dark; }
  *, *::before, *::after { box-sizing: border-box; }
  html, body, #root { height: 100%; }
  body {
    margin: 0; background: ${colour.sea}; color: ${colour.ink};
    font: 400 15px/1.5 ${font.plain}; font-variant-numeric: tabular-nums;
  }
  button { font: inherit; color: inherit; }
  :focus-visible, [data-focus-visible] { outline: 2px solid ${colour.buoy}; outline-offset: 2px; }
  @media (prefers-reduced-motion: reduce) { * { transition: none !important; } }
`;
