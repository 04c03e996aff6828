import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { type Schemas } from "../../api/client";
import { letter, points, pValue, words } from "../../shared/format";
import type { Unit } from "./unit";

type Reading = Schemas["Reading"];

/** Every comparison: the interval that holds for all together, Holm's p, what stands beside it, and the guardrails. */
export function Pairs({ r, unit }: { r: Reading; unit: Unit }) {
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
            <TableCell className="num">{unit.money ? `${unit.short} a person` : "Points"}, all together</TableCell>
            <TableCell className="num">
              p, {r.pairs.length > 1 ? "Holm’s" : unit.money ? "Welch" : "score test"}
            </TableCell>
            <TableCell className="num">{unit.money ? "By resampling" : "As reported"}</TableCell>
            <TableCell className="num">{unit.money ? "People who bought, points" : "Over strata"}</TableCell>
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
                {unit.signed(p.difference, 2)}{" "}
                <span className="soft small">
                  {unit.signed(p.lower, 2)} to {unit.signed(p.upper, 2)}
                </span>
              </TableCell>
              <TableCell className="num">{pValue(p.adjusted_p)}</TableCell>
              <TableCell className="num">
                {p.resampled
                  ? `${unit.signed(p.resampled.lower)} to ${unit.signed(p.resampled.upper)}`
                  : points(p.reported.difference, 2)}
              </TableCell>
              <TableCell className="num">
                {unit.money ? (
                  points(p.primary.difference, 2)
                ) : p.stratified ? (
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
        {r.stretches.length > 1
          ? `${unit.money ? "Welch’s test" : "The test of Cochran, Mantel and Haenszel"} over the stretches that both were open in`
          : unit.money
            ? "Welch’s test"
            : "The unstratified score test"}{" "}
        decides; what stands beside it changes nothing.
        {r.pairs.length > 1 &&
          r.omnibus &&
          ` All arms at once: chi-square ${r.omnibus.statistic.toFixed(2)} with ${r.omnibus.df} df, p ${pValue(r.omnibus.p_value)}.`}
      </p>
    </>
  );
}
