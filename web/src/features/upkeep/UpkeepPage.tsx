import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, date, instant } from "../../shared/format";
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
    <Table>
      <TableHead>
        <TableRow>
          <TableCell>Address</TableCell>
          <TableCell>Since</TableCell>
          {part === "resting" && <TableCell>Until</TableCell>}
          <TableCell>Why</TableCell>
        </TableRow>
      </TableHead>
      <TableBody>
        {rows.map((r) => (
          <TableRow key={r.contact_id}>
            <TableCell>
              <Link to={`/contacts/${r.contact_id}`}>{r.address}</Link>
            </TableCell>
            <TableCell style={{ whiteSpace: "nowrap" }}>{date(r.since)}</TableCell>
            {part === "resting" && <TableCell style={{ whiteSpace: "nowrap" }}>{instant(r.until)}</TableCell>}
            <TableCell>{r.why}</TableCell>
          </TableRow>
        ))}
      </TableBody>
    </Table>
  );
}

/** Addresses that rest, are watched, or are retired, and why. */
export function UpkeepPage() {
  const [params] = useSearchParams();
  const part = (params.get("part") ?? "retired") as Part;
  const upkeep = useQuery({ queryKey: ["upkeep"], queryFn: () => ok(api.GET("/api/upkeep")) });
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
