import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { plural } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Loaded } from "../../shared/states";
import { NearMisses } from "./NearMisses";
import { useClearanceSlips } from "./useClearanceSlips";
import { Looked, useNow } from "./suppressionParts";
import { NewList } from "./NewSuppressionList";

/** All lists and rules. */
export function SuppressionPage() {
  const { slips } = useClearanceSlips();
  const now = useNow();
  const lists = useQuery(queries.suppression);
  return (
    <Frame slips={slips}>
      <Loaded query={lists}>
        {(all) => (
          <>
            <div className="crumb">
              <span>Clearance</span>
            </div>
            <h1>Suppression</h1>
            <p className="finding">
              <em>{plural(all.length, "list")}</em> with{" "}
              {plural(
                all.reduce((n, l) => n + l.lines, 0),
                "line",
              )}{" "}
              bar people whatever their consent.
            </p>
            <DataTable
              name="Suppression lists"
              rows={all}
              id={(l) => l.id}
              columns={(col) => [
                col.shown(
                  "List",
                  (l) => l.name,
                  (l) => (
                    <>
                      <Link to={`/clearance/suppression/${l.id}`}>{l.name}</Link>
                      {l.reason && <span className="soft"> {l.reason}</span>}
                    </>
                  ),
                ),
                col.text("Bars from", (l) => l.scope_words),
                col.number("Lines", (l) => l.lines),
                col.text("Live rule", (l) => (l.segment ? `everybody who is in ${l.segment}` : "")),
                col.shown(
                  "Looked over",
                  (l) => l.looked_at,
                  (l) => <Looked at={l.looked_at} now={now} />,
                ),
              ]}
            />
            <NearMisses />
            <NewList />
          </>
        )}
      </Loaded>
    </Frame>
  );
}
