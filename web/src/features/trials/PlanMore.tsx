import { TextField } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { count, letter } from "../../shared/format";
import { NumberBox } from "../../shared/NumberBox";
import { Pick } from "../../shared/Pick";

type Plan = Schemas["Plan"];

const NONE = [0, "begins later"] as const;
const PARTS = Array.from({ length: 10 }, (_, i) => [i + 1, i === 0 ? "1 part" : `${i + 1} parts`] as const);

/** What few plans need: arms of other sizes, people without mail, subgroups, two changes at once, bounces as a guardrail. */
export function PlanMore({
  plan,
  setPlan,
  subjects,
  sizes,
}: {
  plan: Plan;
  setPlan: (p: Plan) => void;
  subjects: string[];
  sizes: number[] | undefined;
}) {
  const used =
    (plan.shares ?? []).length > 0 ||
    (plan.no_mail ?? 0) > 0 ||
    (plan.subgroups ?? []).length > 0 ||
    plan.crossed != null ||
    plan.bounce_margin != null ||
    plan.reserves === true;
  const [open, setOpen] = useState(used);
  const segments = useQuery({ ...queries.segments, enabled: open });
  const shares = plan.shares ?? [];
  const groups = plan.subgroups ?? [];
  const inSeries = plan.per_arm != null;
  const goal = plan.metric === "conversion" || plan.metric === "revenue";
  const [first = "", second = ""] = plan.crossed ?? [];
  if (!open)
    return (
      <div>
        <button className="plain" aria-expanded={false} onClick={() => setOpen(true)}>
          {inSeries
            ? "Arms of other sizes, or that begin later; people kept for it"
            : "Arms of other sizes, people without mail or kept for it, subgroups, two changes at once"}
        </button>
      </div>
    );
  return (
    <section aria-label="More of the plan" style={{ display: "grid", gap: 8 }}>
      <div>
        {inSeries ? "Of those who come" : "Of the pilot"}{" "}
        {subjects.map((_, i) => (
          <span key={i}>
            {letter(i)} has{" "}
            <Pick
              label={`Parts of ${letter(i)}`}
              value={shares[i] ?? 1}
              options={inSeries ? [NONE, ...PARTS] : PARTS}
              onChange={(n) => {
                const next = subjects.map((_, j) => (j === i ? n : (shares[j] ?? 1)));
                setPlan({ ...plan, shares: next.every((x) => x === next[0]) ? [] : next });
              }}
            />
            {sizes?.[i] != null && <span className="soft small"> ({count(sizes[i])} people)</span>}
            {i < subjects.length - 1 ? ", " : inSeries ? "." : "; "}
          </span>
        ))}
        {!inSeries && (
          <Pick
            label="Parts without mail"
            value={plan.no_mail ?? 0}
            options={[
              [0, "everyone gets mail"],
              ...PARTS.map(([n, said]) => [n, `${said} get${n === 1 ? "s" : ""} no mail`] as const),
            ]}
            onChange={(no_mail) => setPlan({ ...plan, no_mail })}
          />
        )}
        {!goal && !inSeries && (
          <span className="soft small"> An arm without mail needs a metric that can be seen there: a goal.</span>
        )}
      </div>
      {!inSeries && (
        <div>
          Looked at apart:{" "}
          {groups.map((g, i) => (
            <span key={g.segment}>
              {g.name}{" "}
              <button
                className="plain"
                aria-label={`Leave out ${g.name}`}
                onClick={() => setPlan({ ...plan, subgroups: groups.filter((_, j) => j !== i) })}
              >
                leave out
              </button>
              ,{" "}
            </span>
          ))}
          {groups.length < 2 && (
            <Pick
              label="Subgroup"
              value={0}
              options={[
                [0, groups.length === 0 ? "no subgroup" : "and no other"],
                ...(segments.data ?? [])
                  .filter((s) => !groups.some((g) => g.segment === s.id))
                  .map((s) => [s.id, s.name] as const),
              ]}
              onChange={(id) => {
                const s = segments.data?.find((x) => x.id === id);
                if (s) setPlan({ ...plan, subgroups: [...groups, { name: s.name, segment: s.id }] });
              }}
            />
          )}
          <span className="soft small"> Named before, so that chance can’t choose them; they change no verdict.</span>
        </div>
      )}
      <div>
        <label>
          <input
            type="checkbox"
            checked={plan.bounce_margin != null}
            onChange={(e) => setPlan({ ...plan, bounce_margin: e.target.checked ? 0.01 : null })}
          />{" "}
          Bounces are a guardrail
        </label>
        {plan.bounce_margin != null && (
          <>
            : they may rise by{" "}
            <NumberBox
              label="Bounces may rise by, points"
              value={plan.bounce_margin * 100}
              min={0}
              max={20}
              onChange={(n) => setPlan({ ...plan, bounce_margin: n / 100 })}
            />{" "}
            points
          </>
        )}
      </div>
      <div>
        <label>
          <input
            type="checkbox"
            checked={plan.reserves ?? false}
            onChange={(e) => setPlan({ ...plan, reserves: e.target.checked })}
          />{" "}
          Reserve its people
        </label>
        <span className="soft small">
          {" "}
          They get no other marketing mailing until the window ends{inSeries ? "; the series itself goes on" : ""}. Each
          of those says so in its sluice.
        </span>
      </div>
      {subjects.length === 4 && !inSeries && (
        <div>
          <label>
            <input
              type="checkbox"
              checked={plan.crossed != null}
              onChange={(e) =>
                setPlan({
                  ...plan,
                  crossed: e.target.checked ? ["Subject", "Content"] : null,
                  control: null,
                  uses_before: false,
                })
              }
            />{" "}
            Two changes at once, crossed: A has neither, B the second, C the first, D both
          </label>
          {plan.crossed && (
            <div className="two" style={{ marginTop: 8 }}>
              <TextField
                label="The first change"
                value={first}
                onChange={(e) => setPlan({ ...plan, crossed: [e.target.value, second] })}
              />
              <TextField
                label="The second change"
                value={second}
                onChange={(e) => setPlan({ ...plan, crossed: [first, e.target.value] })}
              />
            </div>
          )}
        </div>
      )}
    </section>
  );
}
