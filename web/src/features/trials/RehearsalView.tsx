import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { type Schemas } from "../../api/client";
import { count, percent } from "../../shared/format";
import type { Unit } from "./unit";

const NAMES: Record<string, string> = {
  none: "Nothing between the arms",
  wanted: "The effect worth having",
  typical: "The typical effect of past trials",
};

/** Three cases side by side: how often the plan calls right, wrong, or not at all. */
export function RehearsalView({ r, aim, unit }: { r: Schemas["Rehearsal"]; aim: Schemas["Plan"]["aim"]; unit: Unit }) {
  const earn = aim === "earn";
  const noWorse = aim === "no_worse";
  const [right, wrong] = earn
    ? ["The better goes out", "The other"]
    : noWorse
      ? ["Shown no worse, rightly", "Wrongly"]
      : ["Called right", "Called wrong"];
  const bar = (c: Schemas["RehearsedCase"]) => {
    const parts = [
      [c.right, "var(--deep)"],
      [c.wrong, "var(--brick)"],
      [c.too_close, "var(--soft)"],
      [c.cant_tell, "var(--rule)"],
    ] as const;
    let x = 0;
    return (
      <svg width="180" height="14" aria-hidden="true">
        {parts.map(([n, fill], i) => {
          const width = (180 * n) / c.runs;
          const at = x;
          x += width;
          return <rect key={i} x={at} width={width} height="14" fill={fill} />;
        })}
      </svg>
    );
  };
  return (
    <section aria-label="Rehearsal">
      <p style={{ fontSize: 18, margin: "12px 0 6px", maxWidth: "46em" }} data-testid="rehearsal">
        {r.sentence}
      </p>
      <Table size="small">
        <TableHead>
          <TableRow>
            <TableCell>If there is</TableCell>
            <TableCell className="num">{unit.money ? unit.name : "Points"}</TableCell>
            <TableCell />
            <TableCell className="num">{right}</TableCell>
            <TableCell className="num">{wrong}</TableCell>
            {!earn && <TableCell className="num">Too close to matter</TableCell>}
            <TableCell className="num">{earn ? "Nothing" : "Can’t tell"}</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {r.cases.map((c) => (
            <TableRow key={c.name}>
              <TableCell>{noWorse && c.name === "wanted" ? "All that it may lose" : NAMES[c.name]}</TableCell>
              <TableCell className="num">{c.effect === 0 ? "0" : unit.signed(c.effect)}</TableCell>
              <TableCell>{bar(c)}</TableCell>
              <TableCell className="num">{c.effect === 0 && !noWorse ? "–" : percent(c.right / c.runs)}</TableCell>
              <TableCell className="num">{percent(c.wrong / c.runs)}</TableCell>
              {!earn && <TableCell className="num">{percent(c.too_close / c.runs)}</TableCell>}
              <TableCell className="num">{percent(c.cant_tell / c.runs)}</TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      <p className="soft small">
        {count(r.cases[0]?.runs ?? 0)} runs each with {count(r.per_arm)} people in the smallest arm and{" "}
        {unit.money ? `usually ${unit.bare(r.baseline)} ${unit.name}` : `a usual rate of ${percent(r.baseline)}`}; the
        {noWorse ? "arm that isn’t the control does worse" : "last arm does better"} by the effect. Each run is decided
        by the rule that is sealed.
      </p>
    </section>
  );
}
