import type { Schemas } from "../../api/client";

type Plan = Schemas["Plan"];

export const startingPlan: Plan = {
  question: "",
  metric: "human_open",
  effect: 0.02,
  alpha: 0.05,
  power: 0.8,
  pilot_share: 0.4,
  window_hours: 48,
  on_no_call: 0,
  leaving_margin: 0.005,
  complaint_margin: 0.002,
  aim: "learn",
  control: null,
  harm_looks: 2,
  by_itself: false,
  bounce_margin: null,
  change: "subject",
  goal: null,
  shares: [],
  no_mail: 0,
  subgroups: [],
  crossed: null,
};

/** Of a message in a series: people are enrolled as they come to it. */
export const seriesPlan: Plan = { ...startingPlan, per_arm: 1000, pilot_share: 1 };
