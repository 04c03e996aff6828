import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { instant } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";

export const tone = (outcome: string) => (outcome === "held" ? "wait" : outcome === "barred" ? "bad" : "");

/** What clearance decided about a person, each with the version of the rules of then. */
export function DecisionTable({ decisions, contact }: { decisions: Schemas["ClearanceDecision"][]; contact: number }) {
  return (
    <DataTable
      name="Decisions"
      rows={decisions}
      id={(d) => `${d.mailing_id} ${d.at} ${d.outcome}`}
      columns={(col) => [
        col.when("When", (d) => d.at),
        col.shown(
          "Mailing",
          (d) => d.mailing,
          (d) => <Link to={`/clearance/${d.mailing_id}/person/${contact}?at=${d.at}`}>{d.mailing}</Link>,
        ),
        col.shown(
          "Decided",
          (d) => d.outcome,
          (d) => (
            <>
              {d.outcome}
              {d.until ? ` until ${instant(d.until)}` : ""}
            </>
          ),
          { tone: (d) => tone(d.outcome) },
        ),
        col.shown(
          "Because",
          (d) => d.words.join("; "),
          (d) => (
            <>
              {d.words.map((w) => w.replace(/^Held: /, "")).join("; ")}
              {d.detail && <span className="soft"> ({d.detail})</span>}
            </>
          ),
        ),
        col.number("Rules", (d) => d.rules_version),
      ]}
    />
  );
}
