import { Button } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { plural } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { useUpkeepSlips } from "./useUpkeepSlips";

type Records = Schemas["RecordSystem"];

const STATES: Record<string, string> = {
  staged: "being read",
  checked: "held for a person",
  applying: "being taken in",
  applied: "taken in",
  cancelled: "left",
  undone: "taken back",
};

function Finding({ r }: { r: Records }) {
  if (r.files.length === 0) return <>No file of the system of record has come yet.</>;
  if (r.came_back === 0) return <>Nobody who was deleted here came back by a file.</>;
  return (
    <>
      <em>{plural(r.came_back, "person", "people")} deleted here came back</em> by its files,{" "}
      {plural(r.came_back_times, "time")} in all; they were refused each time.
    </>
  );
}

/** Whom the system of record must not bring back, and whom its files would have brought. */
function Open({ r }: { r: Records }) {
  const webhooks = useQuery(queries.webhooks);
  const newest = r.rows[0]?.id;
  const handed = useMutation({
    mutationFn: (upto: number) => ok(api.POST("/api/upkeep/record-system/handed", { body: { upto } })),
  });
  const tell = useMutation({
    mutationFn: (webhook: number | null) => ok(api.POST("/api/upkeep/record-system/webhook", { body: { webhook } })),
  });
  const open = (webhooks.data ?? []).filter((w) => w.ended_at == null);
  return (
    <>
      <div className="crumb">
        <span>Upkeep</span>
        <span>record system</span>
      </div>
      <h1>Record system</h1>
      <p className="finding">
        <Finding r={r} />
      </p>
      <h2>Files from it</h2>
      <p className="soft" style={{ maxWidth: "62em" }}>
        A table of people put into <code>{r.folder}</code> (written under another name, then renamed) is taken in within
        a minute: profiles change, new people come without consent, and who was deleted here is refused and counted. A
        file of which over 20% would be refused otherwise waits for a person.
      </p>
      {r.files.length > 0 && (
        <DataTable
          name="Files of the system of record"
          rows={r.files}
          id={(f) => f.import_id}
          dense
          columns={(col) => [
            col.shown(
              "File",
              (f) => f.file_name,
              (f) => <Link to={`/contacts/import/${f.import_id}`}>{f.file_name}</Link>,
            ),
            col.when("Came", (f) => f.at),
            col.text("State", (f) => STATES[f.state] ?? f.state),
            col.number("Rows", (f) => f.rows),
            col.number("New", (f) => f.new),
            col.number("Changed", (f) => f.changed),
            col.number("Came back", (f) => f.came_back),
            col.number("Refused otherwise", (f) => f.refused_otherwise),
          ]}
        />
      )}
      <h2>Lines for it: who must not come back</h2>
      <p className="soft" style={{ maxWidth: "62em" }}>
        {r.delete_after_days == null ? (
          <>
            Retired addresses are kept; the <Link to="/upkeep/policy">policy</Link> can have cleaning runs delete them
            after a time.
          </>
        ) : (
          <>
            Cleaning runs delete addresses that were retired for {r.delete_after_days} days: the profile goes, counts in
            reports stay, and a keyed hash keeps the address from coming back.
          </>
        )}{" "}
        Each deletion writes a line. The address stands in it until the system of record has the line, at most 30 days.
      </p>
      <div style={{ display: "flex", gap: 10, alignItems: "center", margin: "10px 0" }}>
        {r.waiting > 0 && (
          <>
            <Button variant="contained" component="a" href="/api/upkeep/record-system/lines.csv">
              {plural(r.waiting, "line")} as CSV
            </Button>
            <Button variant="outlined" disabled={handed.isPending} onClick={() => handed.mutate(newest!)}>
              It has them: forget the addresses
            </Button>
          </>
        )}
        <label>
          Told at once:{" "}
          <select
            className="bare"
            value={r.webhook ?? ""}
            onChange={(e) => tell.mutate(e.target.value === "" ? null : Number(e.target.value))}
          >
            <option value="">nobody; lines wait to be taken</option>
            {open.map((w) => (
              <option key={w.id} value={w.id}>
                {w.name}
              </option>
            ))}
          </select>
        </label>
      </div>
      <Failure error={handed.error ?? tell.error} />
      {r.rows.length === 0 ? (
        <p className="soft">No line was written yet.</p>
      ) : (
        <DataTable
          name="Do-not-return lines"
          rows={r.rows}
          of={r.lines}
          id={(l) => l.id}
          dense
          columns={(col) => [
            col.number("Line", (l) => l.id),
            col.day("Deleted", (l) => l.at),
            col.text("Address", (l) => l.address ?? "not kept"),
            col.text("Hash", (l) => `${l.hash.slice(0, 12)}…`),
            col.text("Reason", (l) => l.reason),
            col.day("Handed over", (l) => l.handed_at),
          ]}
        />
      )}
    </>
  );
}

export function RecordsPage() {
  const slips = useUpkeepSlips();
  const records = useQuery(queries.recordSystem);
  return (
    <Frame slips={slips}>
      <Loaded query={records}>{(r) => <Open r={r} />}</Loaded>
    </Frame>
  );
}
