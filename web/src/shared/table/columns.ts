import type { ReactNode } from "react";
import { count, date, instant } from "../format";

type Value = string | number | null | undefined;

/** What a table knows of a column: what a cell holds, and how it looks. */
export type Column<R> = Look<R> & {
  /** Names the column in the address of the page. */
  key: string;
  head: string;
  /** What rows are ordered by and what goes into the CSV. Rows without it come last. */
  value: (row: R) => Value;
  /** Rows can't be ordered by it, and it isn't part of the CSV: what one can do with a row. */
  act?: boolean;
};

type Look<R> = {
  num?: boolean;
  /** As it is shown; the value itself where nothing is said. */
  cell?: (row: R) => ReactNode;
  /** As it goes into the CSV, where that isn't the value: an instant is ordered as a number and read as a date. */
  csv?: (row: R) => Value;
  /** Stands in one line. */
  whole?: boolean;
  tone?: (row: R) => string | undefined;
};

const keyed = (head: string) => head.toLowerCase().replaceAll(/\W+/g, "-");

/** Makes the columns of a table of such rows. */
export function columnsOf<R>() {
  const dated =
    (written: (at: number) => string) =>
    (head: string, value: (r: R) => number | null | undefined, none = "–") => {
      const cell = (r: R) => {
        const at = value(r);
        return at === null || at === undefined ? none : written(at);
      };
      return { key: keyed(head), head, value, cell, csv: cell, whole: true } satisfies Column<R>;
    };
  return {
    /** Words. */
    text: (head: string, value: (r: R) => string | null | undefined, look?: Look<R>): Column<R> => ({
      key: keyed(head),
      head,
      value,
      ...look,
    }),
    /** A count. */
    number: (head: string, value: (r: R) => number | null | undefined, look?: Look<R>): Column<R> => ({
      key: keyed(head),
      head,
      value,
      cell: (r) => {
        const n = value(r);
        return n === null || n === undefined ? "–" : count(n);
      },
      num: true,
      ...look,
    }),
    /** An instant, to the minute. */
    when: dated(instant),
    /** A day. */
    day: dated(date),
    /** What looks otherwise than what it is ordered by. */
    shown: (head: string, value: (r: R) => Value, cell: (r: R) => ReactNode, look?: Look<R>): Column<R> => ({
      key: keyed(head),
      head,
      value,
      cell,
      ...look,
    }),
    /** What one can do with a row. */
    acts: (cell: (r: R) => ReactNode, look?: Look<R>): Column<R> => ({
      key: "acts",
      head: "",
      value: () => null,
      cell,
      act: true,
      ...look,
    }),
  };
}

export type Columns<R> = ReturnType<typeof columnsOf<R>>;

const collator = new Intl.Collator("en-GB", { numeric: true, sensitivity: "base" });

/** Numbers by size, words as a reader looks them up. */
export function compare(a: unknown, b: unknown): number {
  return typeof a === "number" && typeof b === "number" ? a - b : collator.compare(String(a), String(b));
}

/** The order that an address carries: a key, with a minus where the greatest comes first. */
export function readOrder(by: string | null): { key: string; descending: boolean } | null {
  if (!by || by === "-") return null;
  return by.startsWith("-") ? { key: by.slice(1), descending: true } : { key: by, descending: false };
}

/** The order after a press on a column's head: its own way (words from A, numbers from the greatest), then the other, then as the table came. */
export function nextOrder<R>(by: string | null, c: Column<R>): string | null {
  const [first, second] = c.num ? [`-${c.key}`, c.key] : [c.key, `-${c.key}`];
  return by === first ? second : by === second ? null : first;
}

/** A spreadsheet takes what begins so as a formula. */
const FORMULA = /^[=+\-@\t\r]/;

function csvField(v: string | number | null | undefined): string {
  if (v === null || v === undefined) return "";
  if (typeof v === "number") return String(v);
  const guarded = FORMULA.test(v) ? `'${v}` : v;
  return /[",\r\n]/.test(guarded) ? `"${guarded.replaceAll('"', '""')}"` : guarded;
}

/** Rows as CSV (RFC 4180), in the order they stand in; text that a spreadsheet would take as a formula begins with an apostrophe. */
export function csv<R>(columns: Column<R>[], rows: R[]): string {
  const told = columns.filter((c) => !c.act);
  const lines = rows.map((r) => told.map((c) => csvField((c.csv ?? c.value)(r))).join(","));
  return [told.map((c) => csvField(c.head)).join(","), ...lines, ""].join("\r\n");
}
