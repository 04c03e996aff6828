import { Button, Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { api, ok, type Schemas } from "../../api/client";
import { Arm } from "../../shared/Arm";
import { bare, count, instant, letter, percent, points, pValue, words } from "../../shared/format";
import { IntervalPlot, type IntervalRow } from "../../shared/Interval";
import { Failure } from "../../shared/states";
import { useWorking } from "../../shared/working";
import { LiftTable, Margins, Subgroups } from "./Beside";
import { CourseView } from "./Course";
import { EnrolmentView } from "./Enrolment";
import { Pairs } from "./Pairs";
import { Sealed } from "./Sealed";
import { unitOf } from "./unit";
import { METRIC } from "./useTrialSlips";
import { workingOf } from "./verdictWorking";
import { Stretches } from "./Stretches";

type View = Schemas["TrialView"];
type Reading = NonNullable<View["reading"]>;

export function Verdict({ v, reading: r }: { v: View; reading: Reading }) {
  const { trial, subjects, rollout, differs } = v;
  const { show } = useWorking();
  const plan = trial.plan;
  const metric = METRIC[plan.metric]!;
  const release = useMutation({
    mutationFn: (at_once: boolean) =>
      ok(api.POST("/api/trials/{id}/release", { params: { path: { id: trial.id } }, body: { at_once } })),
  });
  const unit = unitOf(plan);
  const two = r.pairs.length === 1;
  const first = r.pairs[0];
  // Since version 5 of the rule what is sure has limits that exclude 0, too.
  const sure = (p: { adjusted_p: number; lower: number; upper: number }) =>
    p.adjusted_p < plan.alpha && (p.lower > 0 || p.upper < 0);
  const rows: IntervalRow[] = [
    ...r.margins.map((m): IntervalRow => ({
      label: m.name,
      estimate: m.difference,
      lower: m.lower,
      upper: m.upper,
      note: `p ${pValue(m.adjusted_p)}`,
      tone: sure(m) ? "deep" : "soft",
      hollow: !sure(m),
    })),
    ...r.pairs.map((p): IntervalRow => ({
      label: two ? metric : `${letter(p.arm)} less ${letter(p.base)}`,
      estimate: p.difference,
      lower: p.lower,
      upper: p.upper,
      note: `p ${pValue(p.adjusted_p)}`,
      tone: two || sure(p) ? "deep" : "soft",
      hollow: !two && !sure(p),
    })),
    ...((plan.metric !== "human_open" && plan.metric !== "human_click") || !two || !first
      ? []
      : [
          {
            label: plan.metric === "human_open" ? "Opens as reported" : "Clicks as reported",
            estimate: first.reported.difference,
            lower: first.reported.lower,
            upper: first.reported.upper,
            note: "machines included",
            tone: "soft" as const,
            hollow: true,
          },
        ]),
    // Guardrails are shares of people: on an axis of money they have no place, the table has them.
    ...(two && first && !unit.money ? first.guardrails : []).map((g): IntervalRow => ({
      label: `${g.name[0]!.toUpperCase()}${g.name.slice(1)} of ${letter(g.arm)} (guardrail)`,
      estimate: g.comparison.difference,
      lower: g.comparison.lower,
      upper: g.comparison.upper,
      note: `${words(g.state).replace("cant tell", "can't tell")}, margin ${points(g.margin, g.margin < 0.01 ? 2 : 1)}`,
      tone: g.state === "breached" ? "brick" : "ochre",
    })),
  ];
  const early = trial.state === "collecting";
  const inSeries = v.enrolment != null;
  const enrolling = early && inSeries && trial.enrolled_at == null;
  // The pair that an arm's figures are opened as: with the control, or with the first other arm.
  const pairOf = (i: number) => r.pairs.find((p) => p.arm === i || p.base === i) ?? first;
  const goes = "arm" in r.verdict ? r.verdict.arm : (plan.on_no_call ?? null);
  return (
    <>
      <div className="crumb">
        <span>{inSeries ? "Variant trial in a series" : "Variant trial"}</span>
        <span>sealed {instant(trial.sealed_at)}</span>
        <span>window {plan.window_hours} h</span>
        <span>{early ? "opened early" : `read ${instant(trial.read_at)}`}</span>
        {plan.aim === "earn" && <span>planned to earn</span>}
      </div>
      <h1>{plan.question}</h1>
      <p className="finding" data-testid="verdict">
        {enrolling ? (
          "People are still enrolled: nothing is called yet."
        ) : early ? (
          <>
            The window is open until <em>{instant(trial.reading_due)}</em> UTC: nothing is called yet.
          </>
        ) : (
          r.sentence
        )}
        {rollout != null && goes !== null ? ` It goes to the other ${count(rollout)}.` : ""}
      </p>
      {v.corrected && !early && (
        <p style={{ margin: "0 0 8px", maxWidth: "62em" }}>
          Corrected effect of {letter(v.corrected.arm)} against {letter(v.corrected.base)}: {points(v.corrected.found)}{" "}
          points were found; <b>{points(v.corrected.expected)}</b> are to be expected, {bare(v.corrected.lower)} to{" "}
          {bare(v.corrected.upper)}.{" "}
          <span className="soft">
            What is called was picked for looking large, so it is drawn towards what{" "}
            {v.corrected.others === 0
              ? "such trials find as a rule"
              : `${count(v.corrected.others)} other ${v.corrected.others === 1 ? "trial" : "trials"} of ${metric.toLowerCase()} found`}
            .
          </span>
        </p>
      )}
      {r.no_worse && !early && (
        <p style={{ margin: "0 0 8px", maxWidth: "62em" }}>
          Against the {unit.bare(r.no_worse.margin)} {unit.name} that {letter(r.no_worse.arm)} may lose: z{" "}
          {r.no_worse.z.toFixed(2)}, one-sided p {pValue(r.no_worse.p_value)}, to be under {plan.alpha / 2}; it may lose{" "}
          {unit.bare(Math.max(0, r.no_worse.may_lose))} for certain.
        </p>
      )}
      {trial.opened_at && (
        <p className="note">
          {trial.opened_by ?? "Somebody"} opened the arms before the end, {instant(trial.opened_at)} UTC.
        </p>
      )}
      {differs && (
        <p className="note bad">
          Worked out again by the rule that was sealed, {differs} comes out otherwise than it did. What stands here is
          what was shown when it was read; the record has all that it rested on.
        </p>
      )}
      {r.notes.map((n) => (
        <p key={n} className="note bad">
          {n}
        </p>
      ))}
      {r.remarks.map((n) => (
        <p key={n} className="soft" style={{ margin: "0 0 6px", maxWidth: "62em" }}>
          {n}
        </p>
      ))}
      {!(unit.money && r.arms.every((a) => a.counts.primary === 0)) && (
        <IntervalPlot
          rows={rows}
          band={plan.effect}
          signed={unit.signed}
          unit={unit.name}
          caption={
            two
              ? undefined
              : `${unit.name}, ${r.margins.length > 0 ? "with less without" : "all together"}; shaded: too small to matter (${unit.bare(plan.effect)})`
          }
        />
      )}
      <Table sx={{ mt: 1 }}>
        <TableHead>
          <TableRow>
            <TableCell>Arm</TableCell>
            <TableCell className="num">People</TableCell>
            <TableCell className="num">{unit.money ? "Who bought" : metric}</TableCell>
            <TableCell className="num">{unit.money ? unit.name : "Rate, 95% interval"}</TableCell>
            <TableCell className="num">Human clicks</TableCell>
            <TableCell className="num">Left</TableCell>
            <TableCell className="num">Complained</TableCell>
            <TableCell className="num">Bounced</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {r.arms.map((a, i) => (
            <TableRow key={a.letter}>
              <TableCell>
                <Arm index={i} />
                &ensp;{subjects[i]}
              </TableCell>
              <TableCell className="num">
                {count(a.counts.assigned)}
                {!!a.counts.unknown && <div className="soft small">{count(a.counts.unknown)} unknown</div>}
              </TableCell>
              <TableCell className="num">
                <button
                  className="figure"
                  onClick={() => {
                    const p = pairOf(i);
                    if (p)
                      show(workingOf(metric, p.primary, [p.base, p.arm], r.arms, (x) => x.rate, plan, r.stretches));
                  }}
                >
                  {count(a.counts.primary)}
                </button>
              </TableCell>
              <TableCell className="num">
                {a.mean != null ? (
                  unit.bare(a.mean)
                ) : (
                  <>
                    {percent(a.rate.rate)}{" "}
                    <span className="soft small">
                      {bare(a.rate.lower)} to {bare(a.rate.upper)}
                    </span>
                  </>
                )}
              </TableCell>
              <TableCell className="num">{count(a.counts.clicked)}</TableCell>
              <TableCell className="num">
                <button
                  className="figure"
                  onClick={() => {
                    const g = pairOf(i)?.guardrails.find((x) => x.name === "leaving");
                    if (g)
                      show(
                        workingOf(
                          "Leaving",
                          g.comparison,
                          [g.against, g.arm],
                          r.arms,
                          (x) => ({ count: x.counts.left, of: x.counts.assigned }),
                          plan,
                          r.stretches,
                        ),
                      );
                  }}
                >
                  {count(a.counts.left)}
                </button>
              </TableCell>
              <TableCell className="num">{count(a.counts.complained)}</TableCell>
              <TableCell className="num">{count(a.counts.bounced)}</TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      {r.bayes && (
        <p className="soft small">
          Chance to be best, and points lost if chosen:{" "}
          {r.arms
            .map((a, i) => `${a.letter} ${percent(r.bayes!.prob_best[i])}, ${bare(r.bayes!.expected_loss[i], 2)}`)
            .join("; ")}
          . Bayesian, from a flat prior; it changes no verdict.
        </p>
      )}
      {plan.goal && (plan.metric === "conversion" || plan.metric === "revenue") && (
        <p className="soft small">
          Counted by the goal “{plan.goal.name}” as it was when this was planned, of everyone assigned, whatever they
          followed; a refund within the window is taken off.
        </p>
      )}
      <Margins r={r} unit={unit} />
      {r.pairs.length > 0 && <Pairs r={r} unit={unit} />}
      <LiftTable r={r} unit={unit} />
      <Subgroups r={r} unit={unit} />
      <Stretches r={r} />
      <EnrolmentView v={v} />
      <CourseView id={trial.id} subjects={subjects} />
      <Sealed v={v} />
      <Failure error={release.error} />
      <div className="acts">
        {trial.state === "read" && goes !== null && (
          <>
            <Button variant="contained" disabled={release.isPending} onClick={() => release.mutate(false)}>
              {inSeries ? `Send ${letter(goes)} from tomorrow on` : `Release rollout to ${count(rollout ?? 0)}`}
            </Button>
            <Button variant="outlined" disabled={release.isPending} onClick={() => release.mutate(true)}>
              {inSeries ? "From now on" : "Release it now"}
            </Button>
          </>
        )}
        {trial.state === "read" && goes === null && (
          <Button variant="contained" disabled={release.isPending} onClick={() => release.mutate(false)}>
            Close: nothing goes out, as sealed
          </Button>
        )}
        {!early && (
          <Button variant="outlined" href={`/api/trials/${trial.id}/record.zip`}>
            Export the record
          </Button>
        )}
        <span className="soft small">
          Arms as planned (chi-square p {pValue(r.sizes.p_value)}); losses before handover alike (p {pValue(r.loss_p)}).
        </span>
      </div>
      {trial.state === "read" && inSeries && (
        <p className="soft small">
          Until then everybody who comes to the message gets what was sealed for no call. Then everybody who comes gets
          what goes out; for 90 days a twentieth of them, at random, gets the no-call choice, as a check on what was
          called.
        </p>
      )}
      {trial.state === "read" && !inSeries && (
        <p className="soft small">
          The rollout goes the next day at the pilot's hour, cleared again
          {"arm" in r.verdict ? "; 5% of it, at random, gets what was sealed for no call, as a check on the pilot" : ""}
          .
        </p>
      )}
      {trial.state === "rolling" && (
        <p className="note good" role="status">
          {inSeries
            ? `Everybody who comes from ${instant(trial.rollout_at)} UTC on gets what goes out.`
            : `The rollout goes out ${instant(trial.rollout_at)} UTC, cleared again.`}
        </p>
      )}
      {trial.state === "ended" && trial.rollout_at && (
        <p className="note good" role="status">
          {inSeries
            ? `Everybody who comes gets what went out, since ${instant(trial.rollout_at)} UTC.`
            : `The rollout went out ${instant(trial.rollout_at)} UTC.`}
        </p>
      )}
    </>
  );
}
