import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { Arm } from "../../shared/Arm";
import { bare, count, instant, percent } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { CourseView } from "./Course";
import { EnrolmentView } from "./Enrolment";
import { PlanEditor } from "./PlanEditor";
import { Sealed } from "./Sealed";
import { METRIC, useTrialSlips } from "./useTrialSlips";
import { Verdict } from "./Verdict";

type View = Schemas["TrialView"];

export function TrialPage() {
  const id = Number(useParams().id);
  const { slips } = useTrialSlips();
  const trial = useQuery({
    queryKey: ["trial", id],
    queryFn: () => ok(api.GET("/api/trials/{id}", { params: { path: { id } } })),
  });
  return (
    <Frame slips={slips}>
      <Loaded query={trial}>
        {(v) => {
          if (v.trial.state === "planned")
            return (
              <PlanEditor
                key={id}
                mailing={v.trial.mailing_id}
                name={v.trial.mailing}
                subjects={v.subjects}
                from={planFrom(v)}
              />
            );
          if (v.reading) return <Verdict v={v} reading={v.reading} />;
          return <Collecting v={v} />;
        }}
      </Loaded>
    </Frame>
  );
}

/** The pilot's share of a message that has an audience again. */
const PILOT_SHARE = 0.4;

/** The plan as it stands; of a message that was taken out of its series, with an audience again. */
function planFrom(v: View) {
  const { plan } = v.trial;
  const alone = plan.per_arm != null && v.enrolment == null;
  return alone ? { ...plan, per_arm: null, shares: [], pilot_share: PILOT_SHARE } : plan;
}

function Share({ words, of }: { words: string; of: number }) {
  const share = Math.round(Math.min(of, 1) * 100);
  return (
    <div className="bar" style={{ maxWidth: 720 }} role="progressbar" aria-label={words} aria-valuenow={share}>
      <i style={{ width: `${share}%` }} />
    </div>
  );
}

function Collecting({ v }: { v: View }) {
  const { trial, subjects, pooled } = v;
  const enrolling = v.enrolment != null && trial.enrolled_at == null;
  const givenUp = trial.state === "ended";
  const smallest = v.enrolment?.smallest ?? 0;
  const [sure, setSure] = useState(false);
  const early = useMutation({
    mutationFn: () => ok(api.POST("/api/trials/{id}/open", { params: { path: { id: trial.id } } })),
  });
  return (
    <>
      <div className="crumb">
        <span>{v.enrolment ? "Variant trial in a series" : "Variant trial"}</span>
        <span>sealed {instant(trial.sealed_at)}</span>
        <span>window {trial.plan.window_hours} h</span>
      </div>
      <h1>{trial.plan.question}</h1>
      <p className="finding">
        {givenUp ? (
          "Given up: too few came for anything to be read."
        ) : enrolling ? (
          <>
            Enrolling: <em>{count(smallest)}</em> of {count(trial.plan.per_arm ?? 0)} people in the smallest open arm.
          </>
        ) : trial.reading_due ? (
          <>
            Collecting until <em>{instant(trial.reading_due)}</em> UTC.
          </>
        ) : (
          "The pilot is still going out."
        )}{" "}
        {givenUp
          ? "What was sealed for no call goes on."
          : enrolling
            ? "Until everyone's window is over the arms stay closed."
            : "Until then the arms stay closed."}
      </p>
      {pooled && (
        <>
          <Share
            words={enrolling ? "Share of the people planned" : "Share of the window"}
            of={enrolling ? smallest / (trial.plan.per_arm ?? 1) : pooled.elapsed}
          />
          <h2>All arms together</h2>
          <dl className="facts">
            <dt>Assigned</dt>
            <dd>
              {count(pooled.assigned)} people, {count(pooled.handed_over)} handed over, {count(pooled.accepted)}{" "}
              accepted
            </dd>
            <dt>{METRIC[trial.plan.metric]}</dt>
            <dd>
              {count(pooled.rate.count)} ({percent(pooled.rate.rate)}, {bare(pooled.rate.lower)} to{" "}
              {bare(pooled.rate.upper)})
            </dd>
            <dt>Maturity</dt>
            <dd>
              {pooled.maturity == null
                ? "unknown: no past mailing is old enough"
                : `at the window's end past mailings had ${percent(pooled.maturity, 0)} of their 30-day responses`}
            </dd>
          </dl>
        </>
      )}
      <EnrolmentView v={v} />
      <CourseView id={trial.id} subjects={subjects} />
      <h2>Compared</h2>
      {subjects.map((s, i) => (
        <p key={i}>
          <Arm index={i} />
          &ensp;{s}
        </p>
      ))}
      {!givenUp && (
        <p className="soft small" style={{ maxWidth: "48em" }}>
          A variant can't be called early: the one that is answered faster looks like the one that is answered more.{" "}
          <button className="plain" onClick={() => setSure(true)}>
            Open the arms early
          </button>
        </p>
      )}
      {sure && (
        <div className="note" role="alert">
          It is recorded with your name and stands on the verdict. Nothing can be called before the end.{" "}
          <button className="plain" onClick={() => early.mutate()}>
            Open them
          </button>{" "}
          <button className="plain" onClick={() => setSure(false)}>
            Leave them closed
          </button>
        </div>
      )}
      <Failure error={early.error} />
      <Sealed v={v} />
    </>
  );
}
