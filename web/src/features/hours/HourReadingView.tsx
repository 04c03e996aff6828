import { OwnLabels } from "../../shared/Labels";
import { Button } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { date, percent, points } from "../../shared/format";
import { Failure } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { DAY } from "../../shared/time";
import { useWorking } from "../../shared/working";
import { METRIC } from "../trials/useTrialSlips";
import { HourGainView } from "./HourGainView";
import { HourPicture } from "./HourPicture";
import { HourSeal } from "./HourSeal";
import { OwnHours } from "./OwnHours";
import { decisive, hourOf } from "./hours";
import { working } from "./hourWorking";

type View = Schemas["HourTrialView"];
type Reading = Schemas["HourTrialReading"];

/** What was read: the sentence, the day as a picture, hours and rounds as tables, and what must be alike. */
export function HourReadingView({ v, r }: { v: View; r: Reading }) {
  const { trial } = v;
  const [rates, setRates] = useState(true);
  const { show } = useWorking();
  const [before, words, after] = decisive(r.sentence);
  const navigate = useNavigate();
  const confirm = useMutation({
    mutationFn: async (own: boolean) => {
      const params = { path: { id: trial.id } };
      const plan = own
        ? await ok(api.GET("/api/hour-trials/{id}/confirming-own", { params }))
        : await ok(api.GET("/api/hour-trials/{id}/confirming", { params }));
      return await ok(api.POST("/api/hour-trials", { body: plan }));
    },
    onSuccess: async (made) => {
      await navigate(`/trials/hours/${made}`);
    },
  });
  return (
    <>
      <div className="crumb">
        <span>{r.gain ? "Hour trial, confirming" : "Hour trial"}</span>
        <span>sealed {date(trial.sealed_at)}</span>
        <span>{trial.plan.rounds.length} rounds</span>
        <span>window {trial.plan.window_days} days</span>
      </div>
      <h1>{trial.plan.question}</h1>
      <OwnLabels on="hour_trial" id={trial.id} />
      <p className="finding" data-testid="finding">
        {before}
        <em className={r.verdict === "void" ? "bad" : undefined}>{words}</em>
        {after}
      </p>
      {r.gain ? (
        <HourGainView g={r.gain} effect={trial.plan.effect} />
      ) : (
        <HourPicture r={r} usual={trial.plan.usual_hour} />
      )}
      {r.notes.length > 0 && (
        <ul className="soft small" style={{ maxWidth: "56em", paddingLeft: 20 }}>
          {r.notes.map((n) => (
            <li key={n}>{n}</li>
          ))}
        </ul>
      )}
      <div className="acts">
        {v.confirms != null && (
          <Button variant="contained" disabled={confirm.isPending} onClick={() => confirm.mutate(false)}>
            Plan the confirming trial: {hourOf(v.confirms)} against {hourOf(trial.plan.usual_hour)}
          </Button>
        )}
        <Button
          variant={v.confirms != null ? "outlined" : "contained"}
          href={`/api/hour-trials/${trial.id}/record.zip`}
        >
          Export the record
        </Button>
        <Button variant="outlined" onClick={() => show(working(trial.plan, r))}>
          How it was worked out
        </Button>
        {v.confirms != null && <span className="soft small">The gain is not known before that trial.</span>}
      </div>
      <Failure error={confirm.error} />
      <h2>Hour by hour</h2>
      <div className="switch" role="group" aria-label="Shown as">
        <button aria-pressed={rates} onClick={() => setRates(true)}>
          Rates
        </button>
        <button aria-pressed={!rates} onClick={() => setRates(false)}>
          Counts
        </button>
      </div>
      <DataTable
        name="Hours"
        plain
        rows={r.hours}
        id={(h) => h.hour}
        columns={(col) => [
          col.shown(
            "Hour",
            (h) => h.hour,
            (h) => hourOf(h.hour),
          ),
          col.number(trial.plan.metric === "human_open" ? "Opens can be known" : "Drawn", (h) => h.people),
          rates
            ? col.shown(
                METRIC[trial.plan.metric]!,
                (h) => h.did / Math.max(1, h.people),
                (h) => percent(h.did / Math.max(1, h.people)),
                { num: true },
              )
            : col.number(METRIC[trial.plan.metric]!, (h) => h.did),
          col.shown(
            "From the mean, points",
            (h) => h.estimate,
            (h) => (h.estimate == null ? "–" : `${points(h.estimate)} (${points(h.lower!)} to ${points(h.upper!)})`),
            { num: true, whole: true },
          ),
          rates
            ? col.shown(
                "Lost",
                (h) => h.lost / Math.max(1, h.people),
                (h) => percent(h.lost / Math.max(1, h.people)),
                { num: true },
              )
            : col.number("Lost", (h) => h.lost),
          col.text("", (h) =>
            [
              h.hour === trial.plan.usual_hour && "usual",
              r.verdict === "matters" && h.may_be_best && "may be the best",
              h.thin && "thin",
            ]
              .filter(Boolean)
              .join(", "),
          ),
        ]}
      />
      <h2>Rounds</h2>
      <DataTable
        name="Rounds"
        plain
        rows={r.rounds}
        id={(x) => x.round}
        columns={(col) => [
          col.text("Round", (x) => `${x.round} ${v.rounds[x.round - 1]?.name ?? ""}`),
          col.day("Day", (x) => x.day * DAY),
          col.number("Drawn", (x) => x.drawn),
          col.number(trial.plan.metric === "human_open" ? "Opens can be known" : "Counted", (x) => x.known),
          col.shown(
            "Lost before handover",
            (x) => x.lost,
            (x) => percent(x.lost / Math.max(1, x.drawn)),
            { num: true },
          ),
          col.number(METRIC[trial.plan.metric]!, (x) => x.did),
          col.text("", (x) => x.left_out && `not read: ${x.left_out}`),
        ]}
      />
      <h2>Treated alike?</h2>
      {r.checks.map((c) => (
        <p key={c.what} className={c.breaks ? "note bad" : "soft"} style={{ margin: "0 0 4px" }}>
          {c.sentence}
        </p>
      ))}
      {r.own && (
        <>
          <h2>Own hours</h2>
          <p className="soft" style={{ margin: 0 }}>
            {r.own.sentence}
          </p>
          {r.own.each && <OwnHours each={r.own.each} />}
          {v.confirms_own && (
            <div className="acts">
              <Button variant="outlined" disabled={confirm.isPending} onClick={() => confirm.mutate(true)}>
                Plan the confirming trial: own hours against {hourOf(r.own.each?.common ?? 0)}
              </Button>
            </div>
          )}
        </>
      )}
      <HourSeal id={trial.id} digest={trial.digest} />
    </>
  );
}
