import { type Schemas } from "../../api/client";
import { clock } from "../../shared/format";

export type HourPlan = Schemas["HourPlan"];

/** An hour of the day, as a clock shows it. */
export const hourOf = (hour: number) => clock(hour * 60);

/** What a confirming trial held against the usual hour. */
export const betterOf = (g: Schemas["HourGain"]) => (g.own ? "their own hours" : hourOf(g.best));

/** What an hour trial found, in a few words. */
export const FOUND: Record<Schemas["HourVerdict"], string> = {
  matters: "the hour matters",
  not_shown: "not shown to matter",
  cant_tell: "can't tell",
  void: "void",
};

/** Where an hour trial stands, in a few words. */
export function hourStanding(t: Schemas["HourTrialRow"]): string {
  if (t.state === "planned") return "hour trial, planned";
  if (t.state === "collecting") return `hour trial, round ${t.drawn} of ${t.rounds}`;
  return t.verdict ? `hour trial, ${FOUND[t.verdict]}` : "hour trial, ended unread";
}

/** A plan as most begin; the rounds are chosen. */
export const START: HourPlan = {
  question: "",
  metric: "human_open",
  hours: [8, 11, 14, 17, 20],
  rounds: [],
  usual_hour: 10,
  effect: 0.03,
  alpha: 0.05,
  power: 0.8,
  window_days: 7,
  fail_loss: 0.2,
};

/** What is counted, by a goal where the metric asks one. A conversion belongs to no message. */
export const counting = (plan: HourPlan, metric: HourPlan["metric"]): HourPlan => ({
  ...plan,
  metric,
  goal: metric === "conversion" ? (plan.goal ?? null) : null,
});

/**
 * The next round of a plan: a week after the last, or after today; more where the window is longer. By a goal it is a window and a day at
 * least, on the same weekday.
 */
export function nextRound(plan: HourPlan, mailing: number, today: number): HourPlan {
  const after = plan.rounds.at(-1)?.day ?? today - 5;
  const days = plan.metric === "conversion" ? 7 * Math.ceil((plan.window_days + 1) / 7) : Math.max(7, plan.window_days);
  return { ...plan, rounds: [...plan.rounds, { mailing, day: after + days }] };
}

/** The name of a mailing that comes again, without the round that it was. */
export const kindName = (name: string) => name.replace(/, round \d+$/, "");

/** The name of a mailing that comes again, as the round that it will be. */
export const roundName = (name: string, round: number) => `${kindName(name)}, round ${round}`;

const LATEST = Number.MAX_SAFE_INTEGER;

/** Mailings as they come: the planned ones by when, then the drafts as they were made. */
export function inOrder<M extends { id: number; planned_at?: number | null }>(mailings: M[]): M[] {
  return [...mailings].sort((a, b) => (a.planned_at ?? LATEST) - (b.planned_at ?? LATEST) || a.id - b.id);
}

/** A sentence in three: what comes before its decisive words, those, and the rest. */
export function decisive(sentence: string): [string, string, string] {
  const found = /^(.*?)(matters|doesn't matter|Void|Can't tell)(.*)$/s.exec(sentence);
  return found ? [found[1]!, found[2]!, found[3]!] : ["", "", sentence];
}
