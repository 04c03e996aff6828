import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { type Schemas } from "../../api/client";
import { letter, points, pValue, words } from "../../shared/format";

type Reading = Schemas["Reading"];

/** Every comparison: the interval that holds for all together, Holm's p, what stands beside it, and the guardrails. */
export function Pairs({ r }: { r: Reading }) {
  const guard = (g: Schemas["Guardrail"]) => (
    <span key={g.name} className={g.state === "breached" ? "bad" : undefined}>
      {g.name} of {letter(g.arm)} {words(g.state).replace("cant tell", "can’t tell")}
    </span>
  );
  return (
    <>
      <h2>Comparisons</h2>
      <Table size="small">
        <TableHead>
          <TableRow>
            <TableCell>Arms</TableCell>
            <TableCell className="num">Points, all together</TableCell>
            <TableCell className="num">p, {r.pairs.length > 1 ? "Holm’s" : "score test"}</TableCell>
            <TableCell className="num">As reported</TableCell>
            <TableCell className="num">Over strata</TableCell>
            <TableCell>Guardrails</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {r.pairs.map((p) => (
            <TableRow key={`${p.base} ${p.arm}`}>
              <TableCell>
                {letter(p.arm)} less {letter(p.base)}
              </TableCell>
              <TableCell className="num">
                {points(p.primary.difference, 2)}{" "}
                <span className="soft small">
                  {points(p.lower, 2)} to {points(p.upper, 2)}
                </span>
              </TableCell>
              <TableCell className="num">{pValue(p.adjusted_p)}</TableCell>
              <TableCell className="num">{points(p.reported.difference, 2)}</TableCell>
              <TableCell className="num">
                {p.stratified ? (
                  <>
                    {points(p.stratified.difference, 2)}{" "}
                    <span className="soft small">
                      {points(p.stratified.lower, 2)} to {points(p.stratified.upper, 2)}
                    </span>
                  </>
                ) : (
                  "–"
                )}
              </TableCell>
              <TableCell>
                {p.guardrails.map(guard).reduce((a, b) => (
                  <>
                    {a}, {b}
                  </>
                ))}
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      <p className="soft small">
        The unstratified score test decides; what stands beside it changes nothing.
        {r.pairs.length > 1 &&
          ` All arms at once: chi-square ${r.omnibus.statistic.toFixed(2)} with ${r.omnibus.df} df, p ${pValue(r.omnibus.p_value)}.`}
      </p>
    </>
  );
}
