import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { IntervalPlot } from "../../shared/Interval";
import { bare, count, date, percent, points } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { useClearanceSlips } from "./useClearanceSlips";
import { AsOf } from "../../shared/AsOf";

type Readout = Schemas["HoldoutReadout"];

const money = (x: number) => `${x < 0 ? "−" : ""}${Math.abs(x).toFixed(2)}`;

function finding(r: Readout) {
  const d = r.difference;
  if (!d) return "There is nothing to compare yet.";
  const { lower, upper } = d;
  if (lower > 0) return "People who get mail convert more often than those held out.";
  if (upper < 0) return "People who get mail convert less often than those held out.";
  return "This quarter can’t tell yet whether mail makes a difference to who converts.";
}

/** What marketing earns: people it was kept from by chance, against everybody else. */
export function HoldoutPage() {
  const { slips } = useClearanceSlips();
  const [goal, setGoal] = useState<number | null>(null);
  const goals = useQuery(queries.goals);
  const readout = useQuery({
    queryKey: ["holdout", goal],
    queryFn: () => ok(api.GET("/api/holdout", { params: { query: { goal } } })),
  });
  return (
    <Frame slips={slips}>
      <Loaded query={readout}>
        {(r) =>
          r === null ? (
            <>
              <h1>Global holdout</h1>
              <p className="finding">Nobody is held out.</p>
              <p className="soft" style={{ maxWidth: "48em" }}>
                A holdout keeps a share of people, drawn by chance each quarter, from all marketing. What they buy all
                the same, held against the rest, is what mail earns. Switch it on under{" "}
                <Link to="/clearance/rules">Caps and hours</Link>.
              </p>
            </>
          ) : (
            <>
              <div className="crumb">
                <span>Global holdout, {r.quarter}</span>
                <span>since {date(r.since)}</span>
              </div>
              <h1>What mail earns</h1>
              <AsOf of="/api/holdout" />
              <p className="finding">{finding(r)}</p>
              <div className="filters">
                counted:{" "}
                <select
                  className="bare"
                  aria-label="What counts as a conversion"
                  value={goal ?? ""}
                  onChange={(e) => setGoal(e.target.value ? Number(e.target.value) : null)}
                >
                  <option value="">any purchase</option>
                  {goals.data?.map((g) => (
                    <option key={g.id} value={g.id}>
                      {g.name}
                    </option>
                  ))}
                </select>
              </div>
              {r.difference && (
                <IntervalPlot
                  band={0}
                  caption="points"
                  rows={[
                    {
                      label: "With mail less without",
                      estimate: r.difference.estimate,
                      lower: r.difference.lower,
                      upper: r.difference.upper,
                      note: `${points(r.difference.estimate, 2)} (${points(r.difference.lower, 2)} to ${points(r.difference.upper, 2)})`,
                      tone: "deep",
                      hollow: r.held_out.converted.thin,
                    },
                  ]}
                />
              )}
              <Table sx={{ maxWidth: 720 }}>
                <TableHead>
                  <TableRow>
                    <TableCell />
                    <TableCell className="num">People</TableCell>
                    <TableCell className="num">Converted</TableCell>
                    <TableCell className="num">95% interval</TableCell>
                    <TableCell className="num">{r.currency || "Value"} a person</TableCell>
                  </TableRow>
                </TableHead>
                <TableBody>
                  {[["Held out", r.held_out] as const, ["The rest", r.rest] as const].map(([name, side]) => (
                    <TableRow key={name}>
                      <TableCell>{name}</TableCell>
                      <TableCell className="num">{count(side.converted.of)}</TableCell>
                      <TableCell className="num">
                        {count(side.converted.count)} ({percent(side.converted.rate, 2)})
                      </TableCell>
                      <TableCell className="num">
                        {bare(side.converted.lower, 2)} to {bare(side.converted.upper, 2)}
                      </TableCell>
                      <TableCell className="num">{side.revenue.toFixed(2)}</TableCell>
                    </TableRow>
                  ))}
                </TableBody>
              </Table>
              {r.revenue_difference && (
                <p>
                  Mail adds {money(r.revenue_difference.estimate)} {r.currency} a person (95% interval{" "}
                  {money(r.revenue_difference.lower)} to {money(r.revenue_difference.upper)}, Welch’s).
                </p>
              )}
              <p className="soft" style={{ maxWidth: "56em" }}>
                Everybody counts who was in the base when the draw of {percent(r.share)} began to hold, whatever
                happened to them since: who is held out was left to chance, who withdrew was not. Conversions by
                Newcombe’s interval; refunds subtract. Goals are made under <Link to="/setup/goals">Goals</Link>.
              </p>
            </>
          )
        }
      </Loaded>
    </Frame>
  );
}
