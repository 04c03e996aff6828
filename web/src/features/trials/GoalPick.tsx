import { MenuItem, TextField } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { type Schemas } from "../../api/client";
import { queries } from "../../api/queries";

type Goal = Schemas["PlanGoal"];

/** The goal that a plan counts by, as it is now. */
export function GoalPick({ goal, set }: { goal: Goal | null | undefined; set: (goal: Goal | null) => void }) {
  const goals = useQuery(queries.goals).data ?? [];
  return (
    <TextField
      select
      label="Goal"
      value={goals.find((g) => g.name === goal?.name)?.id ?? ""}
      helperText={
        goals.length === 0
          ? "There is none yet: make one in Setup, under Goals"
          : "As it is now: changing it later changes no trial"
      }
      onChange={(e) => {
        const g = goals.find((x) => x.id === Number(e.target.value));
        set(g ? { name: g.name, goal: g.goal } : null);
      }}
    >
      {goals.map((g) => (
        <MenuItem key={g.id} value={g.id}>
          {g.name}: {g.words}
        </MenuItem>
      ))}
    </TextField>
  );
}
