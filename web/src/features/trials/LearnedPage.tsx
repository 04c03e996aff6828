import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { bare, count, letter, percent, plural, points } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { IntervalPlot } from "../../shared/Interval";
import { Loaded } from "../../shared/states";
import { CHANGE, METRIC, useTrialSlips, verdictWords } from "./useTrialSlips";
import { AsOf } from "../../shared/AsOf";

type Learned = Schemas["Learned"];

const metric = (of: string) => METRIC[of]!.toLowerCase();

/** Did rollouts come out where they were predicted? */
function Calibrated({ l }: { l: Learned }) {
  if (l.held === 0) return null;
  const held = l.trials.filter((t) => t.rollout);
  return (
    <>
      <h2>Predictions held against rollouts</h2>
      <p style={{ margin: "0 0 6px", maxWidth: "46em" }}>
        <b>
          {count(l.calibration.count)} of {plural(l.held, "rollout")}
        </b>{" "}
        came out inside the interval that was to hold 95 in 100
        {l.calibration.rate != null &&
          ` (${percent(l.calibration.rate, 0)}; so few leave it between ${bare(l.calibration.lower, 0)} and ${bare(l.calibration.upper, 0)})`}
        .
      </p>
      <IntervalPlot
        band={0}
        caption="points: the line where the rollout was to be expected, the mark where it came out"
        rows={held.map((t) => ({
          label: t.question.length > 34 ? `${t.question.slice(0, 33)}…` : t.question,
          estimate: t.rollout!.difference,
          lower: t.rollout!.predicted_lower,
          upper: t.rollout!.predicted_upper,
          note: t.rollout!.inside ? "inside" : "outside",
          tone: t.rollout!.inside ? "deep" : "brick",
        }))}
      />
    </>
  );
}

/** What kinds of change have brought. */
function ByChange({ l }: { l: Learned }) {
  if (l.by_change.length === 0) return null;
  return (
    <>
      <h2>By what was changed</h2>
      <DataTable
        name="By what differed"
        param="changes_by"
        rows={l.by_change}
        id={(c) => c.change ?? "unsaid"}
        dense
        columns={(col) => [
          col.text("What differed", (c) => (c.change ? CHANGE[c.change] : "not said in the plan")),
          col.number("Trials", (c) => c.called.of),
          col.number("Called", (c) => c.called.count),
          col.text("Half of them truly differ by less than", (c) =>
            c.typical.length === 0
              ? "too few to say"
              : c.typical.map((t) => `${bare(t.effect, 2)} points of ${metric(t.metric)}`).join(", "),
          ),
        ]}
      />
    </>
  );
}

/** The same against itself, mailing by mailing. */
function SelfChecks({ l }: { l: Learned }) {
  return (
    <>
      <h2>The same against itself</h2>
      <p className="soft" style={{ margin: "0 0 6px", maxWidth: "52em" }}>
        The people of every plain mailing are split at random into two halves before it goes out, and read as two arms
        are. Both got the same, so about 5 in 100 should be called at 5%; many more would say that something here is
        wrong.
      </p>
      {l.self_checks.length === 0 ? (
        <p className="soft">No plain mailing has been read yet: three days after its last message it is.</p>
      ) : (
        <DataTable
          name="Checks of 5%"
          param="checks_by"
          rows={l.self_checks}
          id={(s) => s.metric}
          dense
          columns={(col) => [
            col.text("Metric", (s) => METRIC[s.metric]),
            col.number("Mailings", (s) => s.called.of),
            col.number("Called at 5%", (s) => s.called.count),
            col.shown(
              "Share, 95% interval",
              (s) => s.called.rate,
              (s) => (
                <>
                  <span className={(s.called.lower ?? 0) > 0.05 ? "bad" : undefined}>{percent(s.called.rate, 0)}</span>{" "}
                  <span className="soft small">
                    {bare(s.called.lower, 0)} to {bare(s.called.upper, 0)}
                  </span>
                </>
              ),
              { num: true },
            ),
          ]}
        />
      )}
    </>
  );
}

/** All past trials together: what they found in the light of each other, and whether rollouts bore their pilots out. */
export function LearnedPage() {
  const { slips } = useTrialSlips();
  const learned = useQuery(queries.learned);
  return (
    <Frame slips={slips}>
      <Loaded query={learned}>
        {(l) => (
          <>
            <div className="crumb">
              <span>Variant trials</span>
            </div>
            <h1>What we have learned</h1>
            <AsOf of="/api/trials/learned" />
            <p className="finding">
              {l.read === 0 ? (
                "No trial has been read yet: what they teach will stand here."
              ) : (
                <>
                  <em>{count(l.called.count)}</em> of {plural(l.read, "trial")} {l.called.count === 1 ? "was" : "were"}{" "}
                  called
                  {l.called.rate != null &&
                    ` (${percent(l.called.rate, 0)}, ${bare(l.called.lower, 0)} to ${bare(l.called.upper, 0)})`}
                  .{" "}
                  {l.held > 0 &&
                    `Of ${plural(l.held, "rollout")} held against the pilot, ${count(l.agreed)} bore it out.`}
                </>
              )}
            </p>
            {l.typical.map((t) => (
              <p key={t.metric} className="soft" style={{ margin: "0 0 4px" }}>
                Half of {plural(t.trials, "trial")} of {metric(t.metric)} truly differ by less than {bare(t.effect, 2)}{" "}
                points{t.effect === 0 && ": what was found is what chance alone would make"}.
              </p>
            ))}
            {l.trials.length > 0 && (
              <>
                <IntervalPlot
                  band={0}
                  caption="points, drawn towards what such trials find"
                  rows={l.trials.map((t) => ({
                    label: t.question.length > 34 ? `${t.question.slice(0, 33)}…` : t.question,
                    estimate: t.shrunk,
                    lower: t.lower,
                    upper: t.upper,
                    note: verdictWords(t.verdict),
                    tone: t.verdict.kind === "called" ? "deep" : "soft",
                  }))}
                />
                <DataTable
                  name="What trials found"
                  rows={l.trials}
                  id={(t) => t.id}
                  dense
                  columns={(col) => [
                    col.shown(
                      "Question",
                      (t) => t.question,
                      (t) => (
                        <>
                          <Link to={`/trials/${t.id}`}>{t.question}</Link>{" "}
                          <span className="soft small">
                            {letter(t.arm)} less {letter(t.base)}
                          </span>
                        </>
                      ),
                    ),
                    col.text("Metric", (t) => metric(t.metric)),
                    col.text("Verdict", (t) => verdictWords(t.verdict)),
                    col.number("As found", (t) => t.difference, { cell: (t) => points(t.difference, 2) }),
                    col.shown(
                      "In the light of all",
                      (t) => t.shrunk,
                      (t) => (
                        <>
                          {points(t.shrunk, 2)}{" "}
                          <span className="soft small">
                            {points(t.lower, 2)} to {points(t.upper, 2)}
                          </span>
                        </>
                      ),
                      { num: true },
                    ),
                    col.shown(
                      "Rollout",
                      (t) => t.rollout?.difference,
                      (t) => (
                        <>
                          {t.rollout ? (
                            <span className={t.rollout.agrees ? undefined : "bad"}>
                              {points(t.rollout.difference, 2)}{" "}
                              <span className="soft small">
                                {points(t.rollout.lower, 2)} to {points(t.rollout.upper, 2)}
                              </span>
                            </span>
                          ) : (
                            "–"
                          )}
                        </>
                      ),
                      { num: true },
                    ),
                  ]}
                />
                <p className="soft small" style={{ maxWidth: "56em" }}>
                  One contrast a trial, every trial that isn’t void; on the log-odds scale, shown as points at each
                  trial’s own rate. Without a control the mean is 0, since which arm is named first says nothing. A
                  rollout is what was called less the no-call choice, which a twentieth of it got.
                </p>
              </>
            )}
            <Calibrated l={l} />
            <ByChange l={l} />
            <SelfChecks l={l} />
          </>
        )}
      </Loaded>
    </Frame>
  );
}
