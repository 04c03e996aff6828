import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ok } from "../../api/client";
import { Frame } from "../../app/Frame";
import { bare, count, letter, percent, plural, points } from "../../shared/format";
import { IntervalPlot } from "../../shared/Interval";
import { Loaded } from "../../shared/states";
import { METRIC, useTrialSlips, verdictWords } from "./useTrialSlips";

const metric = (of: string) => METRIC[of]!.toLowerCase();

/** All past trials together: what they found in the light of each other, and whether rollouts bore their pilots out. */
export function LearnedPage() {
  const { slips } = useTrialSlips();
  const learned = useQuery({ queryKey: ["learned"], queryFn: () => ok(api.GET("/api/trials/learned")) });
  return (
    <Frame slips={slips}>
      <Loaded query={learned}>
        {(l) => (
          <>
            <div className="crumb">
              <span>Variant trials</span>
            </div>
            <h1>What we have learned</h1>
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
                <Table size="small">
                  <TableHead>
                    <TableRow>
                      <TableCell>Question</TableCell>
                      <TableCell>Metric</TableCell>
                      <TableCell>Verdict</TableCell>
                      <TableCell className="num">As found</TableCell>
                      <TableCell className="num">In the light of all</TableCell>
                      <TableCell className="num">Rollout</TableCell>
                    </TableRow>
                  </TableHead>
                  <TableBody>
                    {l.trials.map((t) => (
                      <TableRow key={t.id}>
                        <TableCell>
                          <Link to={`/trials/${t.id}`}>{t.question}</Link>{" "}
                          <span className="soft small">
                            {letter(t.arm)} less {letter(t.base)}
                          </span>
                        </TableCell>
                        <TableCell>{metric(t.metric)}</TableCell>
                        <TableCell>{verdictWords(t.verdict)}</TableCell>
                        <TableCell className="num">{points(t.difference, 2)}</TableCell>
                        <TableCell className="num">
                          {points(t.shrunk, 2)}{" "}
                          <span className="soft small">
                            {points(t.lower, 2)} to {points(t.upper, 2)}
                          </span>
                        </TableCell>
                        <TableCell className="num">
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
                        </TableCell>
                      </TableRow>
                    ))}
                  </TableBody>
                </Table>
                <p className="soft small" style={{ maxWidth: "56em" }}>
                  One contrast a trial, every trial that isn’t void; on the log-odds scale, shown as points at each
                  trial’s own rate. Without a control the mean is 0, since which arm is named first says nothing. A
                  rollout is what was called less the no-call choice, which a twentieth of it got.
                </p>
              </>
            )}
          </>
        )}
      </Loaded>
    </Frame>
  );
}
