import { Button } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { DayPick } from "../../shared/Moment";
import { Pick } from "../../shared/Pick";
import { DAY } from "../../shared/time";
import { type HourPlan, nextRound } from "./hours";
import { RepeatRounds } from "./RepeatRounds";

type Row = Schemas["MailingRow"];

/** The mailings that it rides on, each on a day of its own. */
export function RoundsPick({
  plan,
  setPlan,
  canRide,
  names,
}: {
  plan: HourPlan;
  setPlan: (plan: HourPlan) => void;
  canRide: Row[];
  names: Row[];
}) {
  const now = useQuery(queries.clock).data?.now ?? 0;
  const chosen = new Set(plan.rounds.map((r) => r.mailing));
  const next = canRide.find((m) => !chosen.has(m.id));
  const change = (at: number, to: Partial<HourPlan["rounds"][number]>) =>
    setPlan({ ...plan, rounds: plan.rounds.map((r, i) => (i === at ? { ...r, ...to } : r)) });
  const last = plan.rounds.at(-1);
  const nameOf = (id: number) => names.find((m) => m.id === id)?.name ?? `mailing ${id}`;
  return (
    <div role="group" aria-label="Rounds">
      {plan.rounds.map((r, i) => (
        <div key={`${r.mailing} ${i}`} style={{ marginBottom: 6 }}>
          Round {i + 1}{" "}
          <Pick
            label={`Mailing of round ${i + 1}`}
            value={r.mailing}
            options={[
              [r.mailing, nameOf(r.mailing)],
              ...canRide.filter((m) => !chosen.has(m.id)).map((m) => [m.id, m.name] as const),
            ]}
            onChange={(mailing) => change(i, { mailing })}
          />{" "}
          on{" "}
          <DayPick
            inline
            label={`Day of round ${i + 1}`}
            value={r.day}
            onChange={(day) => day !== null && change(i, { day })}
          />{" "}
          <button
            className="plain"
            onClick={() => setPlan({ ...plan, rounds: plan.rounds.filter((_, at) => at !== i) })}
            aria-label={`Take out round ${i + 1}`}
          >
            take out
          </button>
        </div>
      ))}
      <Button
        variant="outlined"
        size="small"
        disabled={!next}
        onClick={() => next && setPlan(nextRound(plan, next.id, Math.floor(now / DAY)))}
      >
        Add a round
      </Button>{" "}
      <span className="soft small">
        {next
          ? "A mailing that is a draft or planned; a week after the one before."
          : "No further mailing is a draft or planned."}
      </span>
      {last && <RepeatRounds plan={plan} setPlan={setPlan} name={nameOf(last.mailing)} today={Math.floor(now / DAY)} />}
    </div>
  );
}
