import { Button, Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { FileButton } from "../../shared/FileButton";
import { bare, count, letter, percent, points, pValue } from "../../shared/format";
import { IntervalPlot } from "../../shared/Interval";
import { Loaded } from "../../shared/states";
import { useTrialSlips } from "./useTrialSlips";

/** An example of ours, so that the page has something true to say at first. */
const EXAMPLE = `variant,sent,clicks,unsubscribes
The lamp is lit,12000,612,31
Come and see the lamp,12000,701,40
Your lamp is lit,12000,655,29
`;

function Metric({ m }: { m: Schemas["OutsideMetric"] }) {
  const many = m.pairs.length > 1;
  const letters = new Map(m.rates.map((r, i) => [r.variant, letter(i)]));
  const named = (v: string) => letters.get(v) ?? v;
  return (
    <section>
      <h2>
        {m.name}
        {m.harm && " (does harm when it rises)"}
      </h2>
      <p style={{ fontSize: 18, margin: "4px 0 10px" }}>{m.sentence}</p>
      <IntervalPlot
        band={0}
        caption="points; intervals for all pairs together"
        rows={m.pairs.map((p) => ({
          label: `${named(p.second)} less ${named(p.first)}`,
          estimate: p.difference,
          lower: p.lower,
          upper: p.upper,
          note: `${points(p.lower)} to ${points(p.upper)}`,
          tone: p.adjusted_p < 0.05 ? "deep" : "soft",
          hollow: p.adjusted_p >= 0.05,
        }))}
      />
      <Table size="small">
        <TableHead>
          <TableRow>
            <TableCell>Variant</TableCell>
            <TableCell align="right">Count</TableCell>
            <TableCell align="right">Of</TableCell>
            <TableCell align="right">Rate, 95%</TableCell>
            <TableCell align="right">Chance to be {m.harm ? "the lowest" : "the best"}</TableCell>
            <TableCell align="right">Loss if chosen, points</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {m.rates.map((r) => (
            <TableRow key={r.variant}>
              <TableCell>
                <b>{named(r.variant)}</b> {named(r.variant) !== r.variant && r.variant}
              </TableCell>
              <TableCell align="right">{count(r.count)}</TableCell>
              <TableCell align="right">{count(r.sent)}</TableCell>
              <TableCell align="right">
                {percent(r.rate, 2)} ({bare(r.lower, 2)} to {bare(r.upper, 2)})
              </TableCell>
              <TableCell align="right">{percent(r.prob_best)}</TableCell>
              <TableCell align="right">{bare(r.expected_loss, 3)}</TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      <p className="soft small">
        {many &&
          `All together: chi-square ${m.omnibus.statistic.toFixed(2)} with ${m.omnibus.df} df, p ${pValue(m.omnibus.p_value)}. `}
        {m.pairs.map((p) => `${named(p.second)} against ${named(p.first)}: p ${pValue(p.adjusted_p)}`).join("; ")}
        {many ? ", Holm's." : "."} The chances start from a flat prior and change no interval.
      </p>
    </section>
  );
}

/** Another sender's results, read with the rigour of a trial of our own. */
export function OutsidePage() {
  const { slips } = useTrialSlips();
  const [text, setText] = useState(EXAMPLE);
  const [asked, setAsked] = useState(EXAMPLE);
  const reading = useQuery({
    queryKey: ["outside", asked],
    queryFn: () => ok(api.POST("/api/verdict", { body: { text: asked } })),
  });
  return (
    <Frame slips={slips}>
      <div className="crumb">
        <span>Another sender's table</span>
        <span>nothing of it is kept</span>
      </div>
      <h1>What can these results tell?</h1>
      <Loaded query={reading}>
        {(r) => (
          <>
            <p className="finding">{r.sentence}</p>
            {r.warnings.map((w) => (
              <p key={w} className="note">
                {w}
              </p>
            ))}
            {r.metrics.map((m) => (
              <Metric key={m.name} m={m} />
            ))}
          </>
        )}
      </Loaded>
      <label className="small soft" htmlFor="table" style={{ display: "block", marginTop: 16 }}>
        The table: a header, then a row for each variant, with those it was sent to and a column for each count
      </label>
      <textarea
        id="table"
        className="code"
        rows={7}
        spellCheck={false}
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      <div className="acts">
        <Button variant="contained" onClick={() => setAsked(text)}>
          Read it
        </Button>
        <FileButton
          label="A results table"
          accept=".csv,.tsv,.txt"
          variant="outlined"
          busy={reading.isFetching}
          onFile={(f) =>
            void f.text().then((t) => {
              setText(t);
              setAsked(t);
            })
          }
        >
          Read a file
        </FileButton>
      </div>
    </Frame>
  );
}
