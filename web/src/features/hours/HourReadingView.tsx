import { Button } from "@mui/material";
import { useState } from "react";
import { type Schemas } from "../../api/client";
import { bare, count, date, percent, points, pValue } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { DAY } from "../../shared/time";
import { useWorking } from "../../shared/working";
import { METRIC } from "../trials/useTrialSlips";
import { HourPicture } from "./HourPicture";
import { HourSeal } from "./HourSeal";
import { decisive, hourOf } from "./hours";

type View = Schemas["HourTrialView"];
type Reading = Schemas["HourTrialReading"];

/** What was read: the sentence, the day as a picture, hours and rounds as tables, and what must be alike. */
export function HourReadingView({ v, r }: { v: View; r: Reading }) {
  const { trial } = v;
  const [rates, setRates] = useState(true);
  const { show } = useWorking();
  const [before, words, after] = decisive(r.sentence);
  return (
    <>
      <div className="crumb">
        <span>Hour trial</span>
        <span>sealed {date(trial.sealed_at)}</span>
        <span>{trial.plan.rounds.length} rounds</span>
        <span>window {trial.plan.window_days} days</span>
      </div>
      <h1>{trial.plan.question}</h1>
      <p className="finding" data-testid="finding">
        {before}
        <em className={r.verdict === "void" ? "bad" : undefined}>{words}</em>
        {after}
      </p>
      <HourPicture r={r} usual={trial.plan.usual_hour} />
      {r.notes.length > 0 && (
        <ul className="soft small" style={{ maxWidth: "56em", paddingLeft: 20 }}>
          {r.notes.map((n) => (
            <li key={n}>{n}</li>
          ))}
        </ul>
      )}
      <div className="acts">
        <Button variant="contained" href={`/api/hour-trials/${trial.id}/record.zip`}>
          Export the record
        </Button>
        <Button variant="outlined" onClick={() => show(working(trial.plan, r))}>
          How it was worked out
        </Button>
      </div>
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
          col.number("Drawn", (h) => h.people),
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
        </>
      )}
      <HourSeal id={trial.id} digest={trial.digest} />
    </>
  );
}

function working(plan: View["trial"]["plan"], r: Reading) {
  return {
    title: "Does the hour matter?",
    body: (
      <>
        <div className="formula">
          U′V⁻¹U = {r.statistic?.toFixed(2) ?? "–"}, {r.df ?? "–"} df
        </div>
        <dl>
          <dt>p</dt>
          <dd>{r.p_value == null ? "–" : pValue(r.p_value)}</dd>
          <dt>By</dt>
          <dd>{r.redrawn == null ? "chi-square" : `${count(r.redrawn)} draws again`}</dd>
          <dt>People</dt>
          <dd>{count(r.persons)}</dd>
          <dt>Answers, by person</dt>
          <dd>clustered</dd>
          <dt>Strata (round × time zone)</dt>
          <dd>{count(r.strata)}</dd>
          <dt>Limits, standard errors</dt>
          <dd>{r.largest_t == null ? "–" : `± ${r.largest_t.toFixed(2)}`}</dd>
          <dt>Daily wave, p</dt>
          <dd>{r.wave ? pValue(r.wave.p_value) : "–"}</dd>
          <dt>Alpha, sealed</dt>
          <dd>{plan.alpha}</dd>
        </dl>
        <h3>Counted</h3>
        <p style={{ margin: 0 }}>
          Everybody drawn{plan.metric === "human_open" ? " whose opens can be known" : ""}, whether or not the message
          could be handed over; answers within {plan.window_days} days of each handover. The score test of a
          person&apos;s answers, within round and time zone, against the hour; {bare(plan.fail_loss, 0)}% lost leaves a
          round out whole.
        </p>
      </>
    ),
  };
}
