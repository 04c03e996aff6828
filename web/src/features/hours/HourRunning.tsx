import { OwnLabels } from "../../shared/Labels";
import { Button } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { bare, count, date, instant, percent, words } from "../../shared/format";
import { Failure } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { DAY } from "../../shared/time";
import { METRIC } from "../trials/useTrialSlips";
import { HourSeal } from "./HourSeal";
import { hourOf } from "./hours";

type View = Schemas["HourTrialView"];

/** How a round stands, and what has to be done. */
function stands(r: View["rounds"][number]): string {
  if (r.missed) return `missed: ${r.missed}`;
  if (r.drawn_at != null) return `${count(r.handed_over)} of ${count(r.people)} handed over`;
  return r.state === "draft" ? `plan it before ${instant(r.draws_at)} UTC` : `drawn ${instant(r.draws_at)} UTC`;
}

/** While it runs: rounds done and to come, how evenly hours were drawn and lost, and all hours together. */
export function HourRunning({ v }: { v: View }) {
  const { trial, pooled, rate } = v;
  const [sure, setSure] = useState(false);
  const ended = trial.state === "ended";
  const end = useMutation({
    mutationFn: () => ok(api.POST("/api/hour-trials/{id}/end", { params: { path: { id: trial.id } } })),
  });
  const drawn = v.rounds.filter((r) => r.drawn_at != null).length;
  return (
    <>
      <div className="crumb">
        <span>Hour trial</span>
        <span>sealed {instant(trial.sealed_at)}</span>
        <span>window {trial.plan.window_days} days</span>
      </div>
      <h1>{trial.plan.question}</h1>
      <OwnLabels on="hour_trial" id={trial.id} />
      <p className="finding">
        {ended ? (
          "Ended before its last round: nothing of it is read."
        ) : (
          <>
            Round <em>{drawn}</em> of {v.rounds.length} is drawn. It is read on <em>{date(trial.reading_due)}</em>, and
            nothing by hour is shown before.
          </>
        )}
      </p>
      <DataTable
        name="Rounds"
        plain
        rows={v.rounds}
        id={(r) => r.round}
        columns={(col) => [
          col.shown(
            "Round",
            (r) => `${r.round} ${r.name}`,
            (r) => (
              <>
                {r.round} <Link to={`/mailings/${r.mailing}`}>{r.name}</Link>
              </>
            ),
          ),
          col.day("Day", (r) => r.day * DAY),
          col.shown(
            "Message",
            (r) => r.state,
            (r) => words(r.state),
          ),
          col.number("Drawn", (r) => r.people),
          col.number("Lost so far", (r) => r.lost),
          col.text("Stands", stands, {
            tone: (r) => (r.missed || (r.state === "draft" && !ended) ? "wait" : undefined),
          }),
          v.rounds.some((r) => r.changed.length > 0) &&
            col.text("Changed since the seal", (r) => r.changed.join(", ") || null),
        ]}
      />
      {pooled && pooled.people > 0 && (
        <>
          <h2>All hours together</h2>
          <dl className="facts">
            <dt>Drawn</dt>
            <dd>
              {count(pooled.people)}, {count(pooled.handed_over)} handed over
            </dd>
            <dt>{METRIC[trial.plan.metric]}</dt>
            <dd>
              {count(pooled.did)} of {count(pooled.known)}
              {rate && ` (${percent(rate.rate)}, ${bare(rate.lower)} to ${bare(rate.upper)})`}
            </dd>
          </dl>
          <h2>Drawn and lost, hour by hour</h2>
          <DataTable
            name="Hours"
            plain
            rows={pooled.hours}
            id={(h) => h.hour}
            columns={(col) => [
              col.shown(
                "Hour",
                (h) => h.hour,
                (h) => hourOf(h.hour),
              ),
              col.number("Drawn", (h) => h.people),
              col.number("Lost", (h) => h.lost),
            ]}
          />
        </>
      )}
      {!ended && (
        <div className="acts">
          {sure ? (
            <>
              <span>Nothing of it will be read, and rounds that are out stay out.</span>
              <Button variant="outlined" color="error" disabled={end.isPending} onClick={() => end.mutate()}>
                End it unread
              </Button>
              <Button onClick={() => setSure(false)}>Let it run</Button>
            </>
          ) : (
            <Button variant="outlined" onClick={() => setSure(true)}>
              End the trial …
            </Button>
          )}
        </div>
      )}
      <Failure error={end.error} />
      <HourSeal id={trial.id} digest={trial.digest} />
    </>
  );
}
