import { Button, MenuItem, Slider, TextField } from "@mui/material";
import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { useNavigate } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Arm } from "../../shared/Arm";
import { bare, count, percent } from "../../shared/format";
import { NumberField } from "../../shared/NumberField";
import { Failure } from "../../shared/states";
import { aDay } from "./Enrolment";
import { PlanCourse } from "./PlanCourse";
import { PlanMore } from "./PlanMore";
import { RehearsalView } from "./RehearsalView";
import { unitOf } from "./unit";
import { UsesBefore } from "./UsesBefore";
import { GoalPick } from "./GoalPick";
import { WhySmall } from "./WhySmall";
import { CHANGE, LOSSES } from "./useTrialSlips";

type Plan = Schemas["Plan"];

/** The plan while it is edited: what it can find moves as the share moves. */
export function PlanEditor({
  mailing,
  name,
  subjects,
  from,
}: {
  mailing: number;
  name: string;
  subjects: string[];
  from: Plan;
}) {
  const navigate = useNavigate();
  const [plan, setPlan] = useState(from);
  const [why, setWhy] = useState("");
  const late = useDeferredValue(plan);
  const path = { id: mailing };
  const outlook = useQuery({
    queryKey: ["outlook", mailing, { ...late, question: "" }],
    queryFn: () => ok(api.POST("/api/mailings/{id}/outlook", { params: { path }, body: late })),
    placeholderData: keepPreviousData,
  });
  const save = useMutation({
    mutationFn: async (seal: boolean) => {
      const id = await ok(api.PUT("/api/mailings/{id}/trial", { params: { path }, body: plan }));
      if (seal) await ok(api.POST("/api/trials/{id}/seal", { params: { path: { id } }, body: { why_small: why } }));
      return id;
    },
    onSuccess: async (id) => {
      await navigate(`/trials/${id}`);
    },
  });
  const rehearsal = useMutation({
    mutationFn: () => ok(api.POST("/api/mailings/{id}/rehearsal", { params: { path }, body: plan })),
  });
  const earn = plan.aim === "earn";
  const noWorse = plan.aim === "no_worse";
  const inSeries = plan.per_arm != null;
  const unit = unitOf(plan);
  const asksGoal = plan.metric === "conversion" || plan.metric === "revenue";
  const setMetric = (metric: Plan["metric"]) => {
    const money = metric === "revenue";
    const goal = metric === "conversion" || money ? (plan.goal ?? null) : null;
    const effect = money === unit.money ? plan.effect : money ? 1 : 0.02;
    const uses_before = metric !== "conversion" && !money && plan.uses_before;
    setPlan({ ...plan, metric, goal, effect, uses_before, no_mail: goal ? (plan.no_mail ?? 0) : 0 });
  };
  const o = outlook.data;
  const even = new Set((plan.shares ?? []).filter((n) => n > 0)).size < 2;
  const number = (label: string, value: number, set: (n: number) => void, help?: string) => (
    <NumberField label={label} value={value} set={set} help={help} />
  );
  return (
    <>
      <div className="crumb">
        <span>{inSeries ? "Variant trial in a series, planned" : "Variant trial, planned"}</span>
        <span>{name}</span>
      </div>
      <h1>{plan.question || "What does this trial ask?"}</h1>
      <p className="finding" data-testid="outlook">
        {o ? (
          <>
            <em>{count(o.per_arm)}</em> people per arm.{" "}
            {earn ? (
              "The better one goes out to the rest; nothing is proven."
            ) : noWorse && o.smallest_effect != null ? (
              <>
                It shows that no more than {unit.bare(o.smallest_effect)} {unit.name} are lost, if none are.
              </>
            ) : o.smallest_effect != null ? (
              <>
                It finds a {LOSSES.has(plan.metric) ? "fall" : "rise"} of {unit.bare(o.smallest_effect)} {unit.name} or
                more.
              </>
            ) : (
              "That finds nothing."
            )}
          </>
        ) : (
          "Working it out …"
        )}
      </p>
      <Failure error={outlook.error} />
      {o != null && o.warnings.length > 0 && (
        <ul className="note" style={{ paddingLeft: 32 }}>
          {o.warnings.map((w) => (
            <li key={w}>{w}</li>
          ))}
        </ul>
      )}
      <div className="fields">
        <TextField
          label="The question, in a sentence"
          value={plan.question}
          onChange={(e) => setPlan({ ...plan, question: e.target.value })}
        />
        {subjects.map((s, i) => (
          <div key={i}>
            <Arm index={i} /> {s}
            {o?.sizes[i] === 0 ? (
              <span className="soft small"> begins later</span>
            ) : (
              !even && o?.sizes[i] != null && <span className="soft small"> {count(o.sizes[i])} people</span>
            )}
          </div>
        ))}
        {(plan.no_mail ?? 0) > 0 && o && (
          <div className="soft small">
            No mail: {count(o.sizes[subjects.length] ?? 0)} people take part and get nothing
          </div>
        )}
        {plan.per_arm != null ? (
          <TextField
            label="People per arm"
            type="number"
            defaultValue={plan.per_arm}
            helperText={
              !o
                ? undefined
                : o.days != null
                  ? `${count(o.pilot)} people in all: at ${aDay(o.a_day ?? 0)} a day, as over the last 28 days, it takes ${count(Math.ceil(o.days))} days`
                  : `${count(o.pilot)} people in all, as they come to the message`
            }
            onChange={(e) => e.target.value !== "" && setPlan({ ...plan, per_arm: Math.round(Number(e.target.value)) })}
          />
        ) : (
          <div>
            <div id="share" className="small soft">
              Pilot share: <b style={{ color: "var(--ink)" }}>{percent(plan.pilot_share, 0)}</b> of{" "}
              {o ? count(o.cleared) : "…"} people cleared now; {o ? count(o.rollout) : "…"} wait for the rollout
            </div>
            <Slider
              aria-labelledby="share"
              min={1}
              max={100}
              value={Math.round(plan.pilot_share * 100)}
              onChange={(_, v) => setPlan({ ...plan, pilot_share: (v as number) / 100 })}
            />
          </div>
        )}
        <div className="two">
          <TextField
            select
            label="Metric"
            value={plan.metric}
            helperText={
              o?.unknown != null && o.unknown > 0.005
                ? `Of ${percent(o.unknown, 0)} of the people it can’t be known: machines open their mail`
                : undefined
            }
            onChange={(e) => setMetric(e.target.value as Plan["metric"])}
          >
            <MenuItem value="human_open">human opens</MenuItem>
            <MenuItem value="human_click">human clicks</MenuItem>
            <MenuItem value="reply">replies</MenuItem>
            <MenuItem value="conversion">conversions, by a goal</MenuItem>
            <MenuItem value="revenue">revenue a person, by a goal</MenuItem>
            <MenuItem value="leaving">leaving: fewer is better</MenuItem>
            <MenuItem value="leaving_topic">leaving the topic alone: fewer is better</MenuItem>
            <MenuItem value="pausing">pausing alone: fewer is better</MenuItem>
            <MenuItem value="withdrawing">withdrawing alone: fewer is better</MenuItem>
            <MenuItem value="complaining">complaining alone: fewer is better</MenuItem>
          </TextField>
          {asksGoal && <GoalPick goal={plan.goal} set={(goal) => setPlan({ ...plan, goal })} />}
          <TextField
            select
            label="What differs"
            value={plan.change ?? "subject"}
            onChange={(e) => setPlan({ ...plan, change: e.target.value as Plan["change"] })}
          >
            {Object.entries(CHANGE).map(([change, said]) => (
              <MenuItem key={change} value={change}>
                {said}
              </MenuItem>
            ))}
          </TextField>
          <div key={`${unit.name} ${noWorse}`}>
            {number(
              noWorse ? `It may lose at most, ${unit.name}` : `Smallest effect worth having, ${unit.name}`,
              plan.effect * unit.scale,
              (v) => setPlan({ ...plan, effect: v / unit.scale }),
              o?.needed_per_arm != null
                ? `Needs ${count(o.needed_per_arm)} people ${even ? "per arm" : "in the smallest arm"}; usually ${
                    unit.money ? `${unit.bare(o.baseline)} ${unit.name}` : percent(o.baseline)
                  }`
                : undefined,
            )}
          </div>
          {number(
            "Window, hours",
            from.window_hours,
            (v) => setPlan({ ...plan, window_hours: Math.round(v) }),
            "From each person's handover to the end of counting",
          )}
          {!inSeries && (
            <TextField
              select
              label="Aim"
              value={plan.aim}
              helperText={
                earn
                  ? o?.earn_per_arm != null
                    ? `Most responses in all: ${count(o.earn_per_arm)} people per arm`
                    : "Too few past trials to say which pilot is best"
                  : "Alpha and power hold"
              }
              onChange={(e) => {
                const aim = e.target.value as Plan["aim"];
                setPlan({ ...plan, aim, control: aim === "no_worse" ? (plan.control ?? 0) : plan.control });
              }}
            >
              <MenuItem value="learn">to learn: which is better?</MenuItem>
              <MenuItem value="no_worse" disabled={subjects.length !== 2 || unit.money}>
                to replace: is it no worse?
              </MenuItem>
              <MenuItem value="earn">to earn: send the better one</MenuItem>
            </TextField>
          )}
          <PlanCourse plan={plan} setPlan={setPlan} subjects={subjects} comparisons={o?.comparisons} />
          {number("Guardrail: leaving may rise by, points", from.leaving_margin * 100, (v) =>
            setPlan({ ...plan, leaving_margin: v / 100 }),
          )}
          {number("Guardrail: complaints may rise by, points", from.complaint_margin * 100, (v) =>
            setPlan({ ...plan, complaint_margin: v / 100 }),
          )}
        </div>
        <UsesBefore plan={plan} setPlan={setPlan} explained={o?.explained} />
        <PlanMore plan={plan} setPlan={setPlan} subjects={subjects} sizes={o?.sizes} />
      </div>
      <p className="soft small">
        Alpha {plan.alpha} over all comparisons, power {plan.power}, two-sided: with nothing between the arms a wrong
        call comes in at most {percent(plan.alpha, 0)} of trials. Everyone assigned counts, whatever happened to their
        message.
        {o?.guards
          .map(
            (g) =>
              ` ${g.name[0]!.toUpperCase()}${g.name.slice(1)}: usually ${bare(g.usual, 2)} in 100; an arm with twice that breaches the guardrail in ${percent(g.notices, 0)} of trials.`,
          )
          .join("")}
        {o?.smallest_margin != null &&
          ` The smallest margin of leaving it can show: ${bare(o.smallest_margin, 2)} points.`}
        {o?.maturity != null && ` By the window’s end past mailings had ${percent(o.maturity, 0)} of their responses.`}
        {o?.typical_effect != null &&
          !unit.money &&
          ` Half of your past trials differed by less than ${bare(o.typical_effect)} points.`}
      </p>
      {rehearsal.data && <RehearsalView r={rehearsal.data} aim={plan.aim} unit={unit} />}
      {o?.too_small && <WhySmall why={why} setWhy={setWhy} />}
      <Failure error={rehearsal.error} />
      <Failure error={save.error} />
      <div className="acts">
        <Button variant="contained" disabled={save.isPending || !o} onClick={() => save.mutate(true)}>
          {inSeries
            ? `Seal, and enrol ${o ? count(o.pilot) : "…"} as they come`
            : `Seal, and send the pilot to ${o ? count(o.pilot) : "…"}`}
        </Button>
        <Button variant="outlined" disabled={rehearsal.isPending || !o} onClick={() => rehearsal.mutate()}>
          Rehearse it
        </Button>
        <Button variant="outlined" disabled={save.isPending} onClick={() => save.mutate(false)}>
          Save the plan
        </Button>
        <span className="soft small">A sealed plan can't be changed.</span>
      </div>
    </>
  );
}
