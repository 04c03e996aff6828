import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { type Schemas } from "../../api/client";
import { letter, points, pValue, words } from "../../shared/format";
import type { Unit } from "./unit";

type Reading = Schemas["Reading"];

/** By which test a comparison was decided; readings by rules from before version 5 say none. */
function decidedBy(r: Reading, money: boolean) {
  const over = r.stretches.length > 1;
  const tests = new Set(r.pairs.map((p) => p.test ?? (money ? "welch" : over ? "strata" : "score")));
  const where = over ? " over the stretches that both were open in" : "";
  const name: Record<Schemas["ComparedBy"], string> = {
    score: "the unstratified score test",
    strata: `the test of Cochran, Mantel and Haenszel${where}`,
    mid_p: "the exact test with mid-p, where an arm has under 5 expected",
    adjusted: "Lin’s difference, adjusted for what people did before,",
    redrawn: `the arms drawn again 10,000 times within their strata${where}`,
    welch: `Welch’s test${where}`,
  };
  const all = [...tests].map((t) => name[t]).join(", ");
  return `${all[0]!.toUpperCase()}${all.slice(1)}`;
}

/** Every comparison: the interval that holds for all together, Holm's p, what stands beside it, and the guardrails. */
export function Pairs({ r, unit }: { r: Reading; unit: Unit }) {
  const beside = (p: Reading["pairs"][number]) => {
    const limits = p.welch ?? p.resampled;
    return limits && `${unit.signed(limits.lower)} to ${unit.signed(limits.upper)}`;
  };
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
              p{r.pairs.length > 1 ? (r.margins.length > 0 ? ", Scheffé’s" : ", Holm’s") : ""}
            </TableCell>
            <TableCell className="num">
              {!unit.money ? "As reported" : r.pairs.some((p) => p.welch) ? "Welch’s limits" : "By resampling"}
            </TableCell>
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
                {p.test === "adjusted" && (
                  <div className="soft small">
                    unadjusted {unit.signed(p.primary.difference, 2)}, {unit.signed(p.primary.lower, 2)} to{" "}
                    {unit.signed(p.primary.upper, 2)}
                  </div>
                )}
              </TableCell>
              <TableCell className="num">{pValue(p.adjusted_p)}</TableCell>
              <TableCell className="num">{beside(p) ?? points(p.reported.difference, 2)}</TableCell>
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
        {decidedBy(r, unit.money)} decides; what stands beside it changes nothing.
        {r.pairs.length > 1 &&
          r.omnibus &&
          ` All arms at once: chi-square ${r.omnibus.statistic.toFixed(2)} with ${r.omnibus.df} df, p ${pValue(r.omnibus.p_value)}.`}
      </p>
    </>
  );
}
