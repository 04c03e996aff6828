import { Button, Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { Arm } from "../../shared/Arm";
import { bare, count, instant, letter, percent, points, pValue, words } from "../../shared/format";
import { IntervalPlot, type IntervalRow } from "../../shared/Interval";
import { Failure, Loaded } from "../../shared/states";
import { useWorking } from "../../shared/working";
import { CourseView } from "./Course";
import { Pairs } from "./Pairs";
import { PlanEditor } from "./PlanEditor";
import { METRIC, useTrialSlips } from "./useTrialSlips";

type View = Schemas["TrialView"];
type Reading = NonNullable<View["reading"]>;

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

/** The plan's seal, the looks it has, and how evenly the arms were filled. */
function Sealed({ v }: { v: View }) {
  const [open, setOpen] = useState(false);
  if (!v.digest) return null;
  const { trial } = v;
  return (
    <>
      <h2>The seal</h2>
      {v.broken ? (
        <p className="note bad">{v.broken}</p>
      ) : (
        <p className="soft" style={{ margin: "0 0 4px" }}>
          The plan, its seed, the variants and the roster are as they were sealed {instant(trial.sealed_at)} UTC.
        </p>
      )}
      {trial.small_reason && (
        <p className="soft" style={{ margin: "0 0 4px" }}>
          {trial.small_by} let it go under its needed size: {trial.small_reason}
        </p>
      )}
      <p className="soft small" style={{ wordBreak: "break-all", margin: "0 0 6px" }}>
        SHA-256 {v.digest}
      </p>
      {v.looks.length > 0 && (
        <p className="soft small" style={{ margin: "0 0 6px", maxWidth: "50em" }}>
          {trial.looked} of {v.looks.length} looks held. A look stops an arm that makes people leave or complain by more
          than the margin, at z {v.looks.map((l) => l.z_bound.toFixed(2)).join(", then ")}; it calls nothing.{" "}
          {trial.stopped.length === 0 ? "None was stopped." : ""}
        </p>
      )}
      {trial.stopped.map((s) => (
        <p key={s.arm} className="note bad">
          {letter(s.arm)} was stopped {instant(s.at)} for {s.harm}: z {s.z.toFixed(2)} against {letter(s.against)}, over
          the bound of {s.z_bound.toFixed(2)}.
        </p>
      ))}
      <p>
        <button className="plain" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "Hide the strata" : `How evenly the arms were filled, over ${count(v.balance.length)} strata`}
        </button>
      </p>
      {open && (
        <Table size="small" sx={{ maxWidth: 720 }}>
          <TableHead>
            <TableRow>
              <TableCell>Stratum</TableCell>
              {v.subjects.map((_, i) => (
                <TableCell key={i} className="num">
                  <Arm index={i} />
                </TableCell>
              ))}
            </TableRow>
          </TableHead>
          <TableBody>
            {v.balance.map((b) => (
              <TableRow key={b.stratum}>
                <TableCell>{b.stratum}</TableCell>
                {b.people.map((n, i) => (
                  <TableCell key={i} className="num">
                    {count(n)}
                  </TableCell>
                ))}
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
    </>
  );
}

function Collecting({ v }: { v: View }) {
  const { trial, subjects, pooled } = v;
  const client = useQueryClient();
  const [sure, setSure] = useState(false);
  const early = useMutation({
    mutationFn: () => ok(api.POST("/api/trials/{id}/open", { params: { path: { id: trial.id } } })),
    onSuccess: () => client.invalidateQueries(),
  });
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
      <CourseView id={trial.id} subjects={subjects} />
      <h2>Compared</h2>
      {subjects.map((s, i) => (
        <p key={i}>
          <Arm index={i} />
          &ensp;{s}
        </p>
      ))}
      <p className="soft small" style={{ maxWidth: "48em" }}>
        A variant can't be called early: the one that is answered faster looks like the one that is answered more.{" "}
        <button className="plain" onClick={() => setSure(true)}>
          Open the arms early
        </button>
      </p>
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

function workingOf(
  label: string,
  c: Reading["pairs"][number]["primary"],
  [base, arm]: [number, number],
  rows: Reading["arms"],
  of: (a: Reading["arms"][number]) => number,
  plan: View["trial"]["plan"],
) {
  const [a, b] = [rows[base]!, rows[arm]!];
  return {
    title: `${label}: ${points(c.difference)} points`,
    body: (
      <>
        <div className="formula">
          p<sub>{b.letter}</sub> − p<sub>{a.letter}</sub> = {count(of(b))}/{count(b.counts.assigned)} − {count(of(a))}/
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

function Read({ v, reading: r }: { v: View; reading: Reading }) {
  const { trial, subjects, rollout } = v;
  const client = useQueryClient();
  const { show } = useWorking();
  const plan = trial.plan;
  const metric = METRIC[plan.metric]!;
  const release = useMutation({
    mutationFn: (at_once: boolean) =>
      ok(api.POST("/api/trials/{id}/release", { params: { path: { id: trial.id } }, body: { at_once } })),
    onSuccess: () => client.invalidateQueries(),
  });
  const two = r.pairs.length === 1;
  const first = r.pairs[0]!;
  const rows: IntervalRow[] = [
    ...r.pairs.map((p): IntervalRow => ({
      label: two ? metric : `${letter(p.arm)} less ${letter(p.base)}`,
      estimate: p.primary.difference,
      lower: p.lower,
      upper: p.upper,
      note: `p ${pValue(p.adjusted_p)}`,
      tone: two || p.adjusted_p < plan.alpha ? "deep" : "soft",
      hollow: !two && p.adjusted_p >= plan.alpha,
    })),
    ...(plan.metric === "reply" || !two
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
    ...(two ? first.guardrails : []).map((g): IntervalRow => ({
      label: `${g.name === "leaving" ? "Leaving" : "Complaints"} of ${letter(g.arm)} (guardrail)`,
      estimate: g.comparison.difference,
      lower: g.comparison.lower,
      upper: g.comparison.upper,
      note: `${words(g.state).replace("cant tell", "can't tell")}, margin ${points(g.margin)}`,
      tone: g.state === "breached" ? "brick" : "ochre",
    })),
  ];
  const early = trial.state === "collecting";
  // The pair that an arm's figures are opened as: with the control, or with the first other arm.
  const pairOf = (i: number) => r.pairs.find((p) => p.arm === i || p.base === i) ?? first;
  const goes = r.verdict.kind === "called" || r.verdict.kind === "ahead" ? r.verdict.arm : (plan.on_no_call ?? null);
  return (
    <>
      <div className="crumb">
        <span>Variant trial</span>
        <span>sealed {instant(trial.sealed_at)}</span>
        <span>window {plan.window_hours} h</span>
        <span>{early ? "opened early" : `read ${instant(trial.read_at)}`}</span>
        {plan.aim === "earn" && <span>planned to earn</span>}
      </div>
      <h1>{plan.question}</h1>
      <p className="finding" data-testid="verdict">
        {early ? (
          <>
            The window is open until <em>{instant(trial.reading_due)}</em> UTC: nothing is called yet.
          </>
        ) : (
          r.sentence
        )}
        {rollout != null && goes !== null ? ` It goes to the other ${count(rollout)}.` : ""}
      </p>
      {trial.opened_at && (
        <p className="note">
          {trial.opened_by ?? "Somebody"} opened the arms before the end, {instant(trial.opened_at)} UTC.
        </p>
      )}
      {r.notes.map((n) => (
        <p key={n} className="note bad">
          {n}
        </p>
      ))}
      <IntervalPlot
        rows={rows}
        band={plan.effect}
        caption={two ? undefined : `points, all together; shaded: too small to matter (${bare(plan.effect)})`}
      />
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
                  onClick={() => {
                    const p = pairOf(i);
                    show(workingOf(metric, p.primary, [p.base, p.arm], r.arms, (x) => x.counts.primary, plan));
                  }}
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
                  onClick={() => {
                    const g = pairOf(i).guardrails[0]!;
                    show(workingOf("Leaving", g.comparison, [g.against, g.arm], r.arms, (x) => x.counts.left, plan));
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
      <p className="soft small">
        Chance to be best, and points lost if chosen:{" "}
        {r.arms
          .map((a, i) => `${a.letter} ${percent(r.bayes.prob_best[i])}, ${bare(r.bayes.expected_loss[i], 2)}`)
          .join("; ")}
        . Bayesian, from a flat prior; it changes no verdict.
      </p>
      <Pairs r={r} />
      <CourseView id={trial.id} subjects={subjects} />
      <Sealed v={v} />
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
        {!early && (
          <Button variant="outlined" href={`/api/trials/${trial.id}/record.zip`}>
            Export the record
          </Button>
        )}
        <span className="soft small">
          Arms as planned (chi-square p {pValue(r.sizes.p_value)}); losses before handover alike (p {pValue(r.loss_p)}).
        </span>
      </div>
      {trial.state === "read" && (
        <p className="soft small">
          The rollout goes the next day at the pilot's hour, cleared anew
          {r.verdict.kind === "called" || r.verdict.kind === "ahead"
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
