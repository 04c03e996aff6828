import { useQuery } from "@tanstack/react-query";
import { type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { letter } from "../../shared/format";
import { hourStanding } from "../hours/hours";

export const METRIC: Record<string, string> = {
  human_open: "Human opens",
  human_click: "Human clicks",
  reply: "Replies",
  conversion: "Conversions",
  revenue: "Revenue",
  leaving: "Leaving",
  leaving_topic: "Leaving the topic",
  pausing: "Pausing",
  withdrawing: "Withdrawing",
  complaining: "Complaining",
};

/** Of these fewer is better. */
export const LOSSES = new Set(["leaving", "leaving_topic", "pausing", "withdrawing", "complaining"]);

/** What differs between variants. */
export const CHANGE: Record<Schemas["TrialChange"], string> = {
  subject: "the subject",
  preheader: "the preheader",
  sender_name: "the sender name",
  reply_to: "where replies go",
  content: "the content",
  offer: "the offer",
  nothing: "nothing: the same against itself",
};

/** A verdict in a few words. */
export function verdictWords(v: Schemas["Verdict"]): string {
  if (v.kind === "called") return `called for ${letter(v.arm)}`;
  if (v.kind === "no_worse") return `${letter(v.arm)} is no worse`;
  if (v.kind === "ahead") return `${letter(v.arm)} goes out, unproven`;
  return v.kind === "cant_tell" ? "can't tell" : v.kind === "void" ? "void" : "too close to matter";
}

/** Where a trial stands, in a few words. */
export function standing(t: Schemas["Trial"]): string {
  if (t.state === "planned") return "planned, not sealed";
  if (t.state === "collecting") return t.plan.per_arm != null && t.enrolled_at == null ? "enrolling" : "collecting";
  const verdict = t.verdict ? verdictWords(t.verdict) : "given up";
  return t.state === "read" ? `${verdict}, rollout waits` : verdict;
}

export function useTrialSlips() {
  const trials = useQuery(queries.trials);
  const hours = useQuery(queries.hourTrials);
  const slips = [
    {
      title: "Trials",
      slips: (trials.data ?? [])
        .slice(0, 12)
        .map((t) => ({ to: `/trials/${t.id}`, title: t.mailing, words: standing(t) })),
    },
    {
      title: "Hours",
      slips: [
        ...(hours.data ?? [])
          .slice(0, 6)
          .map((t) => ({ to: `/trials/hours/${t.id}`, title: t.question || "An hour trial", words: hourStanding(t) })),
        { to: "/trials/hours/new", title: "Plan an hour trial" },
      ],
    },
    {
      title: "All together",
      slips: [{ to: "/trials/learned", title: "What we have learned" }],
    },
    { title: "Tools", slips: [{ to: "/trials/outside", title: "Another sender's table" }] },
  ];
  return { slips, trials, hours };
}
