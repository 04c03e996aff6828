import { MenuItem, TextField } from "@mui/material";
import type { Schemas } from "../../api/client";
import { letter } from "../../shared/format";

type Plan = Schemas["Plan"];
type Props = { plan: Plan; setPlan: (p: Plan) => void; subjects: string[]; comparisons: number | undefined };

/** What the arms are compared with, when they are looked at, and what goes out after. */
export function PlanCourse({ plan, setPlan, subjects, comparisons }: Props) {
  const inSeries = plan.per_arm != null;
  return (
    <>
      <TextField
        select
        label="Compared with"
        value={plan.control ?? -1}
        helperText={comparisons !== undefined && comparisons > 1 ? `${comparisons} comparisons share alpha` : undefined}
        onChange={(e) => setPlan({ ...plan, control: Number(e.target.value) < 0 ? null : Number(e.target.value) })}
      >
        <MenuItem value={-1}>{subjects.length > 2 ? "every other arm" : "the other arm"}</MenuItem>
        {subjects.map((s, i) => (
          <MenuItem key={i} value={i}>
            {letter(i)} as the control: {s}
          </MenuItem>
        ))}
      </TextField>
      <TextField
        select
        label={inSeries ? "Looks before the end" : "Looks before the end, for harm only"}
        value={plan.harm_looks ?? 0}
        onChange={(e) => {
          const harm_looks = Number(e.target.value);
          setPlan({ ...plan, harm_looks, looks_call: harm_looks > 0 && plan.looks_call });
        }}
      >
        {[0, 1, 2, 3, 4, 5].map((n) => (
          <MenuItem key={n} value={n}>
            {n === 0 ? "none" : n}
          </MenuItem>
        ))}
      </TextField>
      {inSeries && (plan.harm_looks ?? 0) > 0 && (
        <TextField
          select
          label="What a look may do"
          value={plan.looks_call ? "call" : "stop"}
          helperText={
            plan.looks_call
              ? "Alpha is spent over the looks and the end; without it, ended early on sight, nothing is called"
              : "Only the end calls"
          }
          onChange={(e) => setPlan({ ...plan, looks_call: e.target.value === "call" })}
        >
          <MenuItem value="stop">stop an arm for harm</MenuItem>
          <MenuItem value="call">stop an arm for harm, or call one</MenuItem>
        </TextField>
      )}
      <TextField
        select
        label={inSeries ? "What was called goes out" : "The rollout goes"}
        value={plan.by_itself ? "self" : "person"}
        onChange={(e) => setPlan({ ...plan, by_itself: e.target.value === "self" })}
      >
        <MenuItem value="person">when a person releases it</MenuItem>
        <MenuItem value="self">
          {inSeries
            ? "by itself, from the next day on"
            : "by itself, the next day at the pilot’s hour, by each person’s clock"}
        </MenuItem>
      </TextField>
      <TextField
        select
        label="What goes out on no call"
        value={plan.on_no_call ?? -1}
        onChange={(e) => setPlan({ ...plan, on_no_call: Number(e.target.value) < 0 ? null : Number(e.target.value) })}
      >
        {subjects.map((s, i) => (
          <MenuItem key={i} value={i}>
            {letter(i)}: {s}
          </MenuItem>
        ))}
        {!inSeries && <MenuItem value={-1}>nothing</MenuItem>}
      </TextField>
    </>
  );
}
