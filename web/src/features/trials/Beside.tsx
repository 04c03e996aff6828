import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { type Schemas } from "../../api/client";
import { count, letter, percent, pValue, words } from "../../shared/format";
import type { Unit } from "./unit";

type Reading = Schemas["Reading"];

const range = (unit: Unit, lower: number, upper: number) => (
  <span className="soft small">
    {unit.signed(lower, 2)} to {unit.signed(upper, 2)}
  </span>
);

/** Two changes at once: each over everybody, with it less without it. */
export function Margins({ r, unit }: { r: Reading; unit: Unit }) {
  if (r.margins.length === 0) return null;
  const arms = (of: number[]) => of.map(letter).join(" and ");
  return (
    <>
      <h2>Each change by its margin</h2>
      <Table size="small">
        <TableHead>
          <TableRow>
            <TableCell>Change</TableCell>
            <TableCell>With it, less without</TableCell>
            <TableCell className="num">{unit.name}, both together</TableCell>
            <TableCell className="num">p, Holm’s</TableCell>
            <TableCell>Called</TableCell>
            <TableCell>Guardrails</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {r.margins.map((m) => (
            <TableRow key={m.name}>
              <TableCell>{m.name}</TableCell>
              <TableCell>
                {arms(m.with)}, less {arms(m.without)}
              </TableCell>
              <TableCell className="num">
                {unit.signed(m.difference, 2)} {range(unit, m.lower, m.upper)}
              </TableCell>
              <TableCell className="num">{pValue(m.adjusted_p)}</TableCell>
              <TableCell>{m.called == null ? "no" : m.called ? "with it" : "without it"}</TableCell>
              <TableCell>
                {m.guardrails.map((g) => `${g.name} ${words(g.state).replace("cant tell", "can’t tell")}`).join(", ")}
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      <p className="soft small">
        Everybody helps to read both. That the two add up: p {pValue(r.interaction_p ?? 1)}; small would say that what
        one does depends on the other.
      </p>
    </>
  );
}

/** Each arm against those who took part and got nothing. */
export function LiftTable({ r, unit }: { r: Reading; unit: Unit }) {
  const quiet = r.no_mail;
  if (!quiet) return null;
  return (
    <>
      <h2>Against no mail</h2>
      <Table size="small" sx={{ maxWidth: 640 }}>
        <TableHead>
          <TableRow>
            <TableCell>Arm</TableCell>
            <TableCell className="num">More than without mail, {unit.name}</TableCell>
            <TableCell className="num">p, Holm’s</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {r.lift.map((l) => (
            <TableRow key={l.arm}>
              <TableCell>{letter(l.arm)}</TableCell>
              <TableCell className="num">
                {unit.signed(l.difference, 2)} {range(unit, l.lower, l.upper)}
              </TableCell>
              <TableCell className="num">{pValue(l.adjusted_p)}</TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      <p className="soft small">
        {count(quiet.counts.assigned)} people took part and got nothing:{" "}
        {quiet.mean != null
          ? `${unit.bare(quiet.mean)} ${unit.name}, ${count(quiet.counts.primary)} of them bought`
          : `${count(quiet.counts.primary)} converted all the same (${percent(quiet.rate.rate)})`}
        . Their window began with the seal. It says what the mail as such does, and calls nothing.
      </p>
    </>
  );
}

/** Inside and outside the groups that were named before. */
export function Subgroups({ r, unit }: { r: Reading; unit: Unit }) {
  if (r.subgroups.length === 0) return null;
  return (
    <>
      <h2>Subgroups named before</h2>
      <Table size="small">
        <TableHead>
          <TableRow>
            <TableCell>Group</TableCell>
            <TableCell>Arms</TableCell>
            <TableCell className="num">Inside, {unit.name}</TableCell>
            <TableCell className="num">Everyone else</TableCell>
            <TableCell className="num">p that they are the same</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {r.subgroups.flatMap((g) =>
            g.rows.map((row) => (
              <TableRow key={`${g.name} ${row.base} ${row.arm}`}>
                <TableCell>
                  {g.name} <span className="soft small">{count(g.people)} people</span>
                </TableCell>
                <TableCell>
                  {letter(row.arm)} less {letter(row.base)}
                </TableCell>
                <TableCell className="num">
                  {unit.signed(row.inside, 2)} {range(unit, row.inside_lower, row.inside_upper)}
                </TableCell>
                <TableCell className="num">
                  {unit.signed(row.outside, 2)} {range(unit, row.outside_lower, row.outside_upper)}
                </TableCell>
                <TableCell className="num">{pValue(row.interaction_p)}</TableCell>
              </TableRow>
            )),
          )}
        </TableBody>
      </Table>
      <p className="soft small">
        Who is in a group was frozen with the roster. These intervals stand each for itself, and change no verdict: that
        one of them lies off zero and the other doesn’t is no difference between the groups; the last column is.
      </p>
    </>
  );
}
