/** The look's tokens: one place, light and dark. Text on ground keeps a contrast of at least 4.5:1. */
export const light = {
  paper: "#f5f0e4",
  sheet: "#fffdf7",
  roll: "#fbf5e6",
  line: "#e4dac4",
  lineStrong: "#c8ba9c",
  // Borders of what can be changed: 3 : 1 on every ground (WCAG 1.4.11).
  control: "#8c8062",
  ink: "#242a1e",
  ink2: "#555a4a",
  ink3: "#66695a",
  act: "#2d3823",
  actText: "#fdf8e9",
  here: "#d79a00",
  hereWash: "#fdf1cc",
  fill: "#5b6b32",
  fillEmpty: "#e5dcc5",
  heed: "#8a4b00",
  heedWash: "#fbe7cd",
  stop: "#a32b22",
  stopWash: "#f8e0db",
  done: "#1f5f6b",
  doneWash: "#dcecee",
};

export const dark: typeof light = {
  paper: "#191c15",
  sheet: "#22261d",
  roll: "#272b20",
  line: "#363b2d",
  lineStrong: "#515842",
  control: "#858c70",
  ink: "#f0eddd",
  ink2: "#bdbda9",
  ink3: "#a3a48e",
  act: "#e7d9a8",
  actText: "#20251a",
  here: "#e8b331",
  hereWash: "#3a341c",
  fill: "#a9bd72",
  fillEmpty: "#3a4030",
  heed: "#f0b46a",
  heedWash: "#402f18",
  stop: "#f1907f",
  stopWash: "#46241f",
  done: "#86c5d0",
  doneWash: "#1c3438",
};

export const words = '"Source Sans 3 Variable", "Source Sans 3", sans-serif';
export const figures = '"Spline Sans Mono", monospace';

/** The tokens as custom properties: `lineStrong` becomes `--line-strong`. */
export function properties(tokens: typeof light): Record<string, string> {
  const named = Object.entries(tokens).map(([name, value]) => [
    `--${name.replace(/[A-Z]|\d/g, (part) => `-${part.toLowerCase()}`)}`,
    value,
  ]);
  return Object.fromEntries(named);
}
