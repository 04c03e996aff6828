import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { instant } from "../../shared/format";

export const tone = (outcome: string) => (outcome === "held" ? "wait" : outcome === "barred" ? "bad" : "");

/** What clearance decided about a person, each with the version of the rules of then. */
export function DecisionTable({ decisions, contact }: { decisions: Schemas["ClearanceDecision"][]; contact: number }) {
  return (
    <Table>
      <TableHead>
        <TableRow>
          <TableCell>When</TableCell>
          <TableCell>Mailing</TableCell>
          <TableCell>Decided</TableCell>
          <TableCell>Because</TableCell>
          <TableCell className="num">Rules</TableCell>
        </TableRow>
      </TableHead>
      <TableBody>
        {decisions.map((d) => (
          <TableRow key={`${d.mailing_id} ${d.at} ${d.outcome}`}>
            <TableCell style={{ whiteSpace: "nowrap" }}>{instant(d.at)}</TableCell>
            <TableCell>
              <Link to={`/clearance/${d.mailing_id}/person/${contact}?at=${d.at}`}>{d.mailing}</Link>
            </TableCell>
            <TableCell className={tone(d.outcome)}>
              {d.outcome}
              {d.until ? ` until ${instant(d.until)}` : ""}
            </TableCell>
            <TableCell>
              {d.words.map((w) => w.replace(/^Held: /, "")).join("; ")}
              {d.detail && <span className="soft"> ({d.detail})</span>}
            </TableCell>
            <TableCell className="num">{d.rules_version}</TableCell>
          </TableRow>
        ))}
      </TableBody>
    </Table>
  );
}
