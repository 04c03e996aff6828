import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { count } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Loaded } from "../../shared/states";
import { upkeepSlips } from "./slips";

type Part = "resting" | "observed" | "retired";
const PARTS: { part: Part; title: string; says: string }[] = [
  { part: "retired", title: "Retired", says: "Never mailed again; each with the evidence." },
  { part: "resting", title: "Resting", says: "Not mailed until the date." },
  { part: "observed", title: "Observed", says: "Back from a rest: mailed and watched." },
];

function Rows({ rows, part }: { rows: Schemas["UpkeepRow"][]; part: Part }) {
  if (rows.length === 0) return <p className="soft">Nobody.</p>;
  return (
    <DataTable
      name={part}
      rows={rows}
      id={(r) => r.contact_id}
      columns={(col) => [
        col.shown(
          "Address",
          (r) => r.address,
          (r) => <Link to={`/contacts/${r.contact_id}`}>{r.address}</Link>,
        ),
        col.day("Since", (r) => r.since),
        part === "resting" && col.when("Until", (r) => r.until),
        col.text("Why", (r) => r.why),
      ]}
    />
  );
}

/** Addresses that rest, are watched, or are retired, and why. */
export function UpkeepPage() {
  const [params] = useSearchParams();
  const part = (params.get("part") ?? "retired") as Part;
  const upkeep = useQuery(queries.upkeep);
  const now = PARTS.find((p) => p.part === part) ?? PARTS[0]!;
  return (
    <Frame slips={upkeepSlips}>
      <Loaded query={upkeep}>
        {(u) => (
          <>
            <div className="crumb">
              <span>Upkeep</span>
              <span>bounces</span>
            </div>
            <h1>{now.title}</h1>
            <p className="finding">
              <em>{count(u.retired_count)}</em> of {count(u.all)} addresses are retired; {count(u.resting_count)} rest
              or are watched.
            </p>
            <p className="soft">
              {now.says} A block by a host is about us, and never counts against the address. The newest{" "}
              {count(u[now.part].length)} are shown.
            </p>
            <Rows rows={u[now.part]} part={now.part} />
          </>
        )}
      </Loaded>
    </Frame>
  );
}
