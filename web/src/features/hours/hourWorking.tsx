import { type Schemas } from "../../api/client";
import { bare, count, points, pValue } from "../../shared/format";
import { betterOf, type HourPlan, hourOf } from "./hours";

type Reading = Schemas["HourTrialReading"];

/** How a reading came about, for the drawer. */
export function working(plan: HourPlan, r: Reading) {
  const g = r.gain;
  const counted = (
    <>
      <h3>Counted</h3>
      <p style={{ margin: 0 }}>
        Everybody drawn{plan.metric === "human_open" ? " whose opens can be known" : ""}, whether or not the message
        could be handed over; answers within {plan.window_days} days of each handover. {bare(plan.fail_loss, 0)}% lost
        leaves a round out whole.
      </p>
    </>
  );
  if (g)
    return {
      title: `${betterOf(g)} less ${hourOf(g.usual)}: ${points(g.difference)} points`,
      body: (
        <>
          <div className="formula">
            {bare(g.best_rate, 2)} − {bare(g.usual_rate, 2)}, each the mean of people&apos;s means
          </div>
          <dl>
            <dt>Interval (Welch)</dt>
            <dd>
              {points(g.lower, 2)} … {points(g.upper, 2)}
            </dd>
            <dt>p, two-sided</dt>
            <dd>{pValue(g.p_value)}</dd>
            <dt>People at {betterOf(g)}</dt>
            <dd>{count(g.best_people)}</dd>
            <dt>People at {hourOf(g.usual)}</dt>
            <dd>{count(g.usual_people)}</dd>
            <dt>Alpha, sealed</dt>
            <dd>{plan.alpha}</dd>
          </dl>
          {counted}
        </>
      ),
    };
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
        <p style={{ margin: 0 }}>
          The score test of each person&apos;s answers, within round and time zone, against the hours they were drawn
          to.
        </p>
        {counted}
      </>
    ),
  };
}
