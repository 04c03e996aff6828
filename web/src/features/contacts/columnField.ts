import type { Schemas } from "../../api/client";

export type Field = Schemas["ColumnField"];
type Own = Extract<Field, { own: unknown }>["own"];
export const SCORE = "score:";

/** What a column is, as the value of a menu's entry, and back. */
export const keyOf = (f: Field | null | undefined) =>
  f == null ? "" : typeof f === "string" ? f : "own" in f ? JSON.stringify(f.own) : SCORE + f.score.name;
export const fieldOf = (key: string): Field | null =>
  key === ""
    ? null
    : key.startsWith("{")
      ? { own: JSON.parse(key) as Own }
      : key.startsWith(SCORE)
        ? { score: { name: key.slice(SCORE.length) } }
        : (key as Field);

const KINDS = ["text", "number", "date", "yes_no", "choice"] as const;

/** The score a column is mapped to, or would make. */
export function scoreKey(column: string, now: Field | null | undefined): string {
  const key = keyOf(now);
  return key.startsWith(SCORE) ? key : SCORE + column.trim().toLowerCase();
}

type Choice = { key: string; label: string; kind: string };

/** Custom fields that a column can be: those there are, and the one it would make, of the guessed kind first. */
export function choices(
  fields: { name: string; kind: string }[],
  column: string,
  guessed: string,
  now: Field | null | undefined,
): Choice[] {
  const name = column.trim().toLowerCase();
  const there = fields.map((f) => ({
    key: JSON.stringify({ name: f.name, kind: f.kind }),
    label: f.name,
    kind: f.kind,
  }));
  const order = [guessed, ...KINDS.filter((k) => k !== guessed)];
  const fresh = there.some((t) => t.label.toLowerCase() === name)
    ? []
    : order.map((kind) => ({ key: JSON.stringify({ name, kind }), label: `new field “${name}”`, kind }));
  const all = [...there, ...fresh];
  const key = keyOf(now);
  if (!key.startsWith("{") || all.some((c) => c.key === key)) return all;
  // It was mapped to a field of another column's name.
  const mapped = JSON.parse(key) as { name: string; kind: string };
  return [...all, { key, label: mapped.name, kind: mapped.kind }];
}
