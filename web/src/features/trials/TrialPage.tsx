import { Button, Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { Arm } from "../../shared/Arm";
import { bare, count, instant, percent, points, pValue, words } from "../../shared/format";
import { IntervalPlot, type IntervalRow } from "../../shared/Interval";
import { Failure, Loaded } from "../../shared/states";
import { useWorking } from "../../shared/working";
import { PlanEditor } from "./PlanEditor";
import { useTrialSlips } from "./useTrialSlips";

type View = Schemas["TrialView"];
type Reading = NonNullable<View["reading"]>;
const METRIC: Record<string, string> = { human_open: "Human opens", human_click: "Human clicks", reply: "Replies" };

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
                from={v.trial.plan}
              />
            );
          if (v.reading) return <Read v={v} reading={v.reading} />;
          return <Collecting v={v} />;
        }}
      </Loaded>
    </Frame>
  );
}

function Collecting({ v: { trial, subjects, pooled } }: { v: View }) {
  return (
    <>
      <div className="crumb">
        <span>Variant trial</span>
        <span>sealed {instant(trial.sealed_at)}</span>
        <span>window {trial.plan.window_hours} h</span>
      </div>
      <h1>{trial.plan.question}</h1>
      <p className="finding">
        {trial.reading_due ? (
          <>
            Collecting until <em>{instant(trial.reading_due)}</em> UTC.
          </>
        ) : (
          "The pilot is still going out."
        )}{" "}
        Until then the arms stay closed.
      </p>
      {pooled && (
        <>
          <div
            className="bar"
            style={{ maxWidth: 720 }}
            role="progressbar"
            aria-label="Share of the window"
            aria-valuenow={Math.round(pooled.elapsed * 100)}
          >
            <i style={{ width: `${pooled.elapsed * 100}%` }} />
          </div>
          <h2>Both arms together</h2>
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
      <h2>Compared</h2>
      {subjects.map((s, i) => (
        <p key={i}>
          <Arm index={i} />
          &ensp;{s}
        </p>
      ))}
      <p className="soft small" style={{ maxWidth: "48em" }}>
        A variant can't be called early: the one that is answered faster looks like the one that is answered more.
      </p>
    </>
  );
}

function workingOf(
  label: string,
  c: Reading["primary"],
  rows: Reading["arms"],
  of: (a: Reading["arms"][number]) => number,
  plan: View["trial"]["plan"],
) {
  const [a, b] = rows as [Reading["arms"][number], Reading["arms"][number]];
  return {
    title: `${label}: ${points(c.difference)} points`,
    body: (
      <>
        <div className="formula">
          p<sub>B</sub> − p<sub>A</sub> = {count(of(b))}/{count(b.counts.assigned)} − {count(of(a))}/
          {count(a.counts.assigned)}
        </div>
        <dl>
          <dt>Difference</dt>
          <dd>{points(c.difference, 2)} points</dd>
          <dt>Interval (Newcombe)</dt>
          <dd>
            {points(c.lower, 2)} … {points(c.upper, 2)}
          </dd>
          <dt>z (score)</dt>
          <dd>{c.z.toFixed(2)}</dd>
          <dt>p, two-sided</dt>
          <dd>{pValue(c.p_value)}</dd>
          <dt>p, Fisher exact</dt>
          <dd>{pValue(c.fisher_p)}</dd>
          <dt>Risk ratio</dt>
          <dd>{c.risk_ratio == null ? "–" : c.risk_ratio.toFixed(3)}</dd>
          <dt>Alpha, sealed</dt>
          <dd>{plan.alpha}</dd>
        </dl>
        <h3>Counted</h3>
        <p style={{ margin: 0 }}>
          Everyone assigned, whatever happened to their message; responses within {plan.window_hours} h of each person's
          handover.
        </p>
        <p className="soft">No filter in force.</p>
      </>
    ),
  };
}

function Read({ v: { trial, subjects, rollout }, reading: r }: { v: View; reading: Reading }) {
  const client = useQueryClient();
  const { show } = useWorking();
  const plan = trial.plan;
  const metric = METRIC[plan.metric]!;
  const release = useMutation({
    mutationFn: (at_once: boolean) =>
      ok(api.POST("/api/trials/{id}/release", { params: { path: { id: trial.id } }, body: { at_once } })),
    onSuccess: () => client.invalidateQueries(),
  });
  const rows: IntervalRow[] = [
    {
      label: metric,
      estimate: r.primary.difference,
      lower: r.primary.lower,
      upper: r.primary.upper,
      note: `p ${pValue(r.primary.p_value)}`,
      tone: "deep",
    },
    ...(plan.metric === "reply"
      ? []
      : [
          {
            label: plan.metric === "human_open" ? "Opens as reported" : "Clicks as reported",
            estimate: r.reported.difference,
            lower: r.reported.lower,
            upper: r.reported.upper,
            note: "machines included",
            tone: "soft" as const,
            hollow: true,
          },
        ]),
    ...r.guardrails.map((g): IntervalRow => ({
      label: `${g.name === "leaving" ? "Leaving" : "Complaints"} (guardrail)`,
      estimate: g.comparison.difference,
      lower: g.comparison.lower,
      upper: g.comparison.upper,
      note: `${words(g.state).replace("cant tell", "can't tell")}, margin ${points(g.margin)}`,
      tone: g.state === "breached" ? "brick" : "ochre",
    })),
  ];
  const goes = r.verdict.kind === "called" ? r.verdict.arm : (plan.on_no_call ?? null);
  return (
    <>
      <div className="crumb">
        <span>Variant trial</span>
        <span>sealed {instant(trial.sealed_at)}</span>
        <span>window {plan.window_hours} h</span>
        <span>read {instant(trial.read_at)}</span>
      </div>
      <h1>{plan.question}</h1>
      <p className="finding" data-testid="verdict">
        {r.sentence}
        {rollout != null && goes !== null ? ` It goes to the other ${count(rollout)}.` : ""}
      </p>
      {r.notes.map((n) => (
        <p key={n} className="note bad">
          {n}
        </p>
      ))}
      <IntervalPlot rows={rows} band={plan.effect} />
      <Table sx={{ mt: 1 }}>
        <TableHead>
          <TableRow>
            <TableCell>Arm</TableCell>
            <TableCell className="num">People</TableCell>
            <TableCell className="num">{metric}</TableCell>
            <TableCell className="num">Rate, 95% interval</TableCell>
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
              <TableCell className="num">{count(a.counts.assigned)}</TableCell>
              <TableCell className="num">
                <button
                  className="figure"
                  onClick={() => show(workingOf(metric, r.primary, r.arms, (x) => x.counts.primary, plan))}
                >
                  {count(a.counts.primary)}
                </button>
              </TableCell>
              <TableCell className="num">
                {percent(a.rate.rate)}{" "}
                <span className="soft small">
                  {bare(a.rate.lower)} to {bare(a.rate.upper)}
                </span>
              </TableCell>
              <TableCell className="num">{count(a.counts.clicked)}</TableCell>
              <TableCell className="num">
                <button
                  className="figure"
                  onClick={() =>
                    show(workingOf("Leaving", r.guardrails[0]!.comparison, r.arms, (x) => x.counts.left, plan))
                  }
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
      <Failure error={release.error} />
      <div className="acts">
        {trial.state === "read" && goes !== null && (
          <>
            <Button variant="contained" disabled={release.isPending} onClick={() => release.mutate(false)}>
              Release rollout to {count(rollout ?? 0)}
            </Button>
            <Button variant="outlined" disabled={release.isPending} onClick={() => release.mutate(true)}>
              Release it now
            </Button>
          </>
        )}
        {trial.state === "read" && goes === null && (
          <Button variant="contained" disabled={release.isPending} onClick={() => release.mutate(false)}>
            Close: nothing goes out, as sealed
          </Button>
        )}
        <Button variant="outlined" href={`/api/trials/${trial.id}/record.json`}>
          Export the record
        </Button>
        <span className="soft small">
          Arms as planned (chi-square p {pValue(r.sizes.p_value)}); losses before handover alike (p {pValue(r.loss_p)}).
        </span>
      </div>
      {trial.state === "read" && (
        <p className="soft small">
          The rollout goes the next day at the pilot's hour, cleared anew
          {r.verdict.kind === "called"
            ? "; 5% of it, at random, gets what was sealed for no call, as a check on the pilot"
            : ""}
          .
        </p>
      )}
      {trial.state === "rolling" && (
        <p className="note good" role="status">
          The rollout goes out {instant(trial.rollout_at)} UTC, cleared anew.
        </p>
      )}
      {trial.state === "ended" && trial.rollout_at && (
        <p className="note good" role="status">
          The rollout went out {instant(trial.rollout_at)} UTC.
        </p>
      )}
    </>
  );
}
