import type { Schemas } from "../../api/client";

/** The metric of a trial that a figure leads to. */
export const METRIC_OF: Record<string, Schemas["Metric"]> = {
  human_opens: "human_open",
  human_clicks: "human_click",
  replies: "reply",
  leaving: "leaving",
  left_topic: "leaving_topic",
  paused: "pausing",
  withdrew: "withdrawing",
  complaints: "complaining",
};
