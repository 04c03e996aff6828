import type { Schemas } from "../../api/client";
import { percent } from "../../shared/format";

type Plan = Schemas["Plan"];

/** Whether the comparison is adjusted for what people did before, where there is something to adjust by. */
export function UsesBefore({
  plan,
  setPlan,
  explained,
}: {
  plan: Plan;
  setPlan: (p: Plan) => void;
  explained: number | null | undefined;
}) {
  const goal = plan.metric === "conversion" || plan.metric === "revenue";
  if (goal || plan.per_arm != null || plan.crossed != null) return null;
  return (
    <div>
      <label>
        <input
          type="checkbox"
          checked={plan.uses_before ?? false}
          onChange={(e) => setPlan({ ...plan, uses_before: e.target.checked })}
        />{" "}
        Use what people did before
      </label>
      <span className="soft small">
        {" "}
        The share of each one’s last 12 messages that they answered so, frozen at the seal, is taken out of the
        comparison
        {explained == null
          ? "; too few messages are old enough to say how many people that saves."
          : `: here that saves ${percent(explained, 0)} of the people.`}
      </span>
    </div>
  );
}
