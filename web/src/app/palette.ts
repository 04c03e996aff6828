/** The colours of the look, by day and by night, once: styles take them as `var(--ink)`, MUI's palette below. */
export const DAY = {
  mist: "#E9EEF1",
  sheet: "#FBFCFD",
  ink: "#17212B",
  soft: "#52606C",
  rule: "#CBD5DB",
  deep: "#2C3A8F",
  "deep-wash": "#CFD8F0",
  ochre: "#85560A",
  "ochre-wash": "#F3E6CB",
  brick: "#9C3327",
  "brick-wash": "#F4DCD8",
  "on-deep": "#FFFFFF",
  band: "#EFEBDF",
  a: "#0B6A78",
  b: "#8B5E00",
  c: "#A3315F",
  d: "#5B4B9A",
  e: "#4D6B1F",
  f: "#5A5A5A",
};
export const NIGHT: typeof DAY = {
  mist: "#141B22",
  sheet: "#1B242D",
  ink: "#E7EDF2",
  soft: "#A7B4BF",
  rule: "#38454F",
  deep: "#AEBBFA",
  "deep-wash": "#2B3566",
  ochre: "#E3B566",
  "ochre-wash": "#3A2F1A",
  brick: "#F0A398",
  "brick-wash": "#43251F",
  "on-deep": "#141B22",
  band: "#2A2C2A",
  a: "#63C2D0",
  b: "#DDB25A",
  c: "#E48AAE",
  d: "#B3A6EC",
  e: "#A9CC72",
  f: "#B4B4B4",
};

/** As custom properties of CSS. */
export const properties = (of: typeof DAY) =>
  Object.fromEntries(Object.entries(of).map(([name, colour]) => [`--${name}`, colour]));

/** As MUI's components take them. */
export const palette = (of: typeof DAY) => ({
  primary: { main: of.deep, contrastText: of["on-deep"] },
  error: { main: of.brick },
  warning: { main: of.ochre },
  background: { default: of.mist, paper: of.sheet },
  text: { primary: of.ink, secondary: of.soft },
  divider: of.rule,
});
