import { type Schemas } from "../../api/client";
import { bare, percent } from "../../shared/format";

/** People of all groups of a run. */
export const sum = (r: Schemas["CleaningRun"], pick: (g: Schemas["CleaningGroup"]) => number) =>
  r.groups.reduce((n, g) => n + pick(g), 0);

/** A rate with its interval; `beside` stands within the brackets. */
export const withInterval = (r: Schemas["Rate"], beside = "") =>
  `${percent(r.rate)} (${bare(r.lower)} to ${bare(r.upper)}${r.thin ? ", thin" : ""}${beside})`;
