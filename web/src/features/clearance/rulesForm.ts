import type { Schemas } from "../../api/client";

export type RuleSet = Schemas["RuleSet"];
export type Cap = Schemas["Cap"];
export type Window = Schemas["Window"];
export type Scope = Schemas["Scope"];

export const WINDOWS: { kind: Window["kind"]; words: string }[] = [
  { kind: "hours", words: "any … hours" },
  { kind: "days", words: "any … days" },
  { kind: "calendar_day", words: "a calendar day of theirs" },
  { kind: "iso_week", words: "a calendar week of theirs" },
];

export function windowOf(kind: Window["kind"], n: number): Window {
  return kind === "hours" || kind === "days" ? { kind, n } : { kind };
}

export function lengthOf(w: Window): number {
  return w.kind === "hours" || w.kind === "days" ? w.n : 1;
}

/** A scope as the value of a choice, and back. */
export const scopeKey = (s: Scope) => ("id" in s ? `${s.kind} ${s.id}` : s.kind);
export function scopeOf(key: string): Scope {
  const [kind, id] = key.split(" ");
  return kind === "channel" || kind === "topic" || kind === "letterhead"
    ? { kind, id: Number(id) }
    : { kind: kind === "series" ? "series" : "marketing" };
}

/** A number that is being typed: what can't be read counts as 0, which the rules refuse with a sentence. */
export const whole = (text: string) => Math.max(0, Math.floor(Number(text) || 0));
