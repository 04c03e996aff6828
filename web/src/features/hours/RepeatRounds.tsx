import { Button } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok } from "../../api/client";
import { NumberField } from "../../shared/NumberField";
import { Failure } from "../../shared/states";
import { type HourPlan, kindName, nextRound, roundName } from "./hours";

const MOST = 24;

/** More rounds with a mailing that comes again: copies of the last round's, each a draft to be written on. */
export function RepeatRounds({
  plan,
  setPlan,
  name,
  today,
}: {
  plan: HourPlan;
  setPlan: (plan: HourPlan) => void;
  name: string;
  today: number;
}) {
  const [more, setMore] = useState(3);
  const last = plan.rounds.at(-1);
  const repeat = useMutation({
    mutationFn: async (of: number) => {
      let next = plan;
      for (let n = 0; n < more; n += 1) {
        const body = { name: roundName(name, next.rounds.length + 1), template: false };
        const made = await ok(api.POST("/api/mailings/{id}/copy", { params: { path: { id: of } }, body }));
        next = nextRound(next, made, today);
        // What was made is kept, should the next one fail.
        setPlan(next);
      }
    },
  });
  if (!last) return null;
  const whole = Number.isInteger(more) && more >= 1 && more <= MOST;
  return (
    <>
      <div style={{ display: "flex", gap: 10, alignItems: "center", marginTop: 8 }}>
        <div style={{ width: 130 }}>
          <NumberField label="More rounds" value={more} set={setMore} />
        </div>
        <Button
          variant="outlined"
          size="small"
          disabled={!whole || repeat.isPending}
          onClick={() => repeat.mutate(last.mailing)}
        >
          Repeat “{kindName(name)}”
        </Button>
        <span className="soft small">
          For a mailing that comes again: copies of it as drafts, one a round. {whole ? "" : `1 to ${MOST} at once.`}
        </span>
      </div>
      <Failure error={repeat.error} />
    </>
  );
}
