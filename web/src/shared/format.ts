/** How numbers, rates and instants are written. Nothing is computed here. */

const whole = new Intl.NumberFormat("en-GB");
export const count = (n: number) => whole.format(n);
export const percent = (p: number | null | undefined, digits = 1) =>
  p === null || p === undefined ? "–" : `${(p * 100).toFixed(digits)}%`;
export const points = (p: number, digits = 1) => `${p >= 0 ? "+" : "−"}${Math.abs(p * 100).toFixed(digits)}`;
export const bare = (p: number | null | undefined, digits = 1) =>
  p === null || p === undefined ? "–" : (p * 100).toFixed(digits);
/** The interval of a rate, or that there are too few to tell. */
export const interval = (r: { thin: boolean; lower?: number | null; upper?: number | null }, digits = 1) =>
  r.thin ? "thin" : `${bare(r.lower, digits)} to ${bare(r.upper, digits)}`;
export const pValue = (p: number) => (p >= 0.0001 ? p.toPrecision(2) : p.toExponential(1));
export const plural = (n: number, one: string, many = `${one}s`) => `${count(n)} ${n === 1 ? one : many}`;

const at = new Intl.DateTimeFormat("en-GB", {
  weekday: "short",
  day: "numeric",
  month: "short",
  year: "numeric",
  hour: "2-digit",
  minute: "2-digit",
  timeZone: "UTC",
});
const day = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", year: "numeric", timeZone: "UTC" });
export const instant = (ms: number | null | undefined) => (ms === null || ms === undefined ? "–" : at.format(ms));
export const date = (ms: number | null | undefined) => (ms === null || ms === undefined ? "–" : day.format(ms));

const two = (n: number) => String(n).padStart(2, "0");
/** A minute of the day, as a clock shows it. */
export const clock = (minute: number) => `${two(Math.floor(minute / 60))}:${two(minute % 60)}`;

/** The letter of a variant: A for 0. */
export const letter = (i: number) => String.fromCharCode(65 + i);

/** Hundredths of a currency. */
export const money = (cents: number, currency: string) =>
  `${(cents / 100).toLocaleString("en-GB", { minimumFractionDigits: 2, maximumFractionDigits: 2 })} ${currency}`;

/** snake_case codes as words. */
export const words = (code: string) => code.replaceAll("_", " ");
