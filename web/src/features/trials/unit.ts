import type { Schemas } from "../../api/client";
import { bare, points } from "../../shared/format";

type Plan = Schemas["Plan"];

/** How a trial's figures are written: shares of people as points, revenue as money a person. */
export function unitOf(plan: Pick<Plan, "metric" | "goal">) {
  if (plan.metric !== "revenue")
    return { money: false, name: "points", short: "points", signed: points, bare, scale: 100 };
  const currency = plan.goal?.goal.currency ?? "";
  const signed = (v: number) => `${v >= 0 ? "+" : "−"}${Math.abs(v).toFixed(2)}`;
  return {
    money: true,
    name: `${currency} a person`,
    short: currency,
    signed,
    bare: (v: number | null | undefined) => (v == null ? "–" : v.toFixed(2)),
    scale: 1,
  };
}
export type Unit = ReturnType<typeof unitOf>;
