import { Button, MenuItem, TextField } from "@mui/material";
import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { count, percent } from "../../shared/format";
import { NumberField } from "../../shared/NumberField";
import { Failure } from "../../shared/states";
import { HourRehearsalView } from "./HourRehearsalView";
import { counting, type HourPlan, hourOf, inOrder } from "./hours";
import { HoursPick } from "./HoursPick";
import { RoundsPick } from "./RoundsPick";
import { GoalPick } from "../trials/GoalPick";
import { WhySmall } from "../trials/WhySmall";

/** How much less people say who are drawn again and again, and how that is known. */
const againWords = (o: Schemas["HourOutlook"]) =>
  o.again_known == null || o.again < 1.005
    ? ""
    : `; people drawn again say ${percent(1 - 1 / o.again, 0)} less than as many others, ${o.again_known ? "as an earlier trial found" : "assumed"}`;

/** The plan while it is edited: what it can find moves with the hours and the rounds. */
export function HourPlanEditor({ from, id }: { from: HourPlan; id: number | null }) {
  const navigate = useNavigate();
  const [plan, setPlan] = useState(from);
  const [why, setWhy] = useState("");
  const late = useDeferredValue(plan);
  const mailings = useQuery(queries.mailings).data ?? [];
  const canRide = inOrder(mailings).filter(
    (m) =>
      (m.state === "draft" || m.state === "planned") &&
      !m.template &&
      !m.archived &&
      m.trial_id == null &&
      m.series_id == null &&
      m.channel !== "text" &&
      m.variants === 1,
  );
  const outlook = useQuery({
    queryKey: ["outlook", "hours", { ...late, question: late.question.trim().length > 9 }],
    queryFn: () => ok(api.POST("/api/hour-trials/outlook", { body: late })),
    placeholderData: keepPreviousData,
  });
  const save = useMutation({
    mutationFn: async (seal: boolean) => {
      const made =
        id === null
          ? await ok(api.POST("/api/hour-trials", { body: plan }))
          : await ok(api.PUT("/api/hour-trials/{id}", { params: { path: { id } }, body: plan }));
      if (id === null) await navigate(`/trials/hours/${made}`, { replace: true });
      if (seal)
        await ok(api.POST("/api/hour-trials/{id}/seal", { params: { path: { id: made } }, body: { why_small: why } }));
      return made;
    },
  });
  const remove = useMutation({
    mutationFn: async (gone: number) => {
      await ok(api.DELETE("/api/hour-trials/{id}", { params: { path: { id: gone } } }));
      await navigate("/trials");
    },
  });
  const rehearsal = useMutation({
    mutationFn: () => ok(api.POST("/api/hour-trials/rehearsal", { body: plan })),
  });
  const two = plan.confirms;
  const v = outlook.data;
  const o = v?.outlook;
  const number = (label: string, value: number, set: (n: number) => void, help?: string) => (
    <NumberField label={label} value={value} set={set} help={help} />
  );
  return (
    <>
      <div className="crumb">
        <span>{two ? "Hour trial, confirming, planned" : "Hour trial, planned"}</span>
      </div>
      <h1>{plan.question || "Does the hour matter, and which?"}</h1>
      <p className="finding" data-testid="outlook">
        {o
          ? o.sentence
          : two
            ? "Choose the mailings it rides on: everybody keeps what they are drawn to over all of them."
            : "Choose the mailings it rides on: in each, everybody is drawn to an hour again."}
      </p>
      <Failure error={outlook.error} />
      {canRide.length === 0 && plan.rounds.length === 0 && (
        <p className="note">
          There is no mailing to ride on: a round is a mailing that is a draft or planned.{" "}
          <Link to="/mailings/new">Write one</Link>, and one more for each round.
        </p>
      )}
      <div className="fields">
        <TextField
          label="The question, in a sentence"
          value={plan.question}
          onChange={(e) => setPlan({ ...plan, question: e.target.value })}
        />
        <RoundsPick plan={plan} setPlan={setPlan} canRide={canRide} names={mailings} />
        {two ? (
          <p style={{ margin: 0 }}>
            {two.own ? "Each person’s own hour" : hourOf(two.best)} against{" "}
            {two.own ? `${hourOf(two.best)} for all` : hourOf(plan.usual_hour)}, as found by{" "}
            <Link to={`/trials/hours/${two.trial}`}>an hour trial</Link>.{" "}
            {two.own && "Only those take part who have another hour. "}Each person keeps one of the two over all rounds,
            and counts once.
          </p>
        ) : (
          <HoursPick plan={plan} setPlan={setPlan} />
        )}
        <div className="two">
          <TextField
            select
            label="Metric"
            value={plan.metric}
            helperText={
              v
                ? `Usually ${percent(v.rate)}${v.rate_assumed ? ", assumed: no mailing is old enough yet" : ""}`
                : undefined
            }
            onChange={(e) => setPlan(counting(plan, e.target.value as HourPlan["metric"]))}
          >
            <MenuItem value="human_open">human opens</MenuItem>
            <MenuItem value="human_click">human clicks</MenuItem>
            <MenuItem value="reply">replies</MenuItem>
            <MenuItem value="conversion">conversions, by a goal</MenuItem>
          </TextField>
          {plan.metric === "conversion" && <GoalPick goal={plan.goal} set={(goal) => setPlan({ ...plan, goal })} />}
          {number(
            two ? "Smallest gain worth having, points" : "Smallest difference between best and worst, points",
            from.effect * 100,
            (n) => setPlan({ ...plan, effect: n / 100 }),
            o
              ? `${count(o.needed_per_hour)} people at each hour, over all rounds; ${count(o.per_hour)} come a round${againWords(o)}`
              : undefined,
          )}
          <TextField
            select
            disabled={two != null}
            label="The usual hour"
            value={plan.usual_hour}
            helperText="People who can’t be drawn get the mailing then"
            onChange={(e) => setPlan({ ...plan, usual_hour: Number(e.target.value) })}
          >
            {Array.from({ length: 24 }, (_, h) => (
              <MenuItem key={h} value={h}>
                {hourOf(h)}
              </MenuItem>
            ))}
          </TextField>
          {number(
            "Window, days",
            from.window_days,
            (n) => setPlan({ ...plan, window_days: Math.round(n) }),
            "From each handover to the end of counting; whole weeks, so that late hours reach into no other days",
          )}
          {number(
            "A round is left out when more is lost than, percent",
            from.fail_loss * 100,
            (n) => setPlan({ ...plan, fail_loss: n / 100 }),
            "Not handed over within the hour",
          )}
        </div>
      </div>
      <p className="soft small">
        Alpha {plan.alpha}, power {plan.power}. People are cleared once before a round’s date begins anywhere, and{" "}
        {two ? "each is drawn to one of the two for good" : "drawn by time zone, mailbox domain and how they answer"};
        they are cleared again at handover. With no hour better than another it is said to matter in at most{" "}
        {percent(plan.alpha, 0)} of trials.
      </p>
      {v != null && v.warnings.length > 0 && (
        <ul className="note" style={{ paddingLeft: 32 }}>
          {v.warnings.map((w) => (
            <li key={w}>{w}</li>
          ))}
        </ul>
      )}
      {v?.refused && <p className="note">{v.refused}</p>}
      {rehearsal.data && <HourRehearsalView r={rehearsal.data} plan={plan} />}
      {o && !o.enough && <WhySmall why={why} setWhy={setWhy} />}
      <Failure error={rehearsal.error} />
      <Failure error={save.error} />
      <Failure error={remove.error} />
      <div className="acts">
        <Button
          variant="contained"
          disabled={save.isPending || !o || v?.refused != null}
          onClick={() => save.mutate(true)}
        >
          Seal {plan.rounds.length} rounds at {two ? 2 : plan.hours.length} hours
        </Button>
        <Button variant="outlined" disabled={rehearsal.isPending || !o} onClick={() => rehearsal.mutate()}>
          {rehearsal.isPending ? "Rehearsing …" : "Rehearse it"}
        </Button>
        <Button variant="outlined" disabled={save.isPending} onClick={() => save.mutate(false)}>
          Save the plan
        </Button>
        {id !== null && (
          <Button disabled={remove.isPending} onClick={() => remove.mutate(id)}>
            Delete the plan
          </Button>
        )}
        <span className="soft small">A sealed plan can't be changed.</span>
      </div>
    </>
  );
}
