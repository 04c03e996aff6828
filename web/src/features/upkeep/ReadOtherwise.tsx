import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import { queryOptions, useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Schemas, api, ok } from "../../api/client";
import { count, date, plural } from "../../shared/format";
import { Pick } from "../../shared/Pick";
import { Failure, Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";

const asked = queryOptions({ queryKey: ["readings"], queryFn: () => ok(api.GET("/api/upkeep/readings")) });

type Category = Schemas["FailureCategory"];

/** What a reading would have done to what is on record. */
function Tried({ t }: { t: Schemas["ReadingTried"] }) {
  return (
    <>
      <p>
        Since {date(t.since)} <em>{plural(t.messages, "message")}</em> to {plural(t.people, "person", "people")} failed
        with it, on {plural(t.mailings, "mailing")}
        {t.now_read.length === 1
          ? ""
          : `: ${t.now_read.map((r) => `${count(r.messages)} read as “${r.reason}”`).join(", ")}`}
        .
      </p>
      <p>
        {t.moves.length === 0
          ? "Nobody’s mail status would be another one."
          : `Of these people ${t.moves.map((m) => `${count(m.people)} would go from ${m.from} to ${m.to}`).join(", ")}.`}
        {t.worked_out < t.people && ` Worked out for ${count(t.worked_out)} of them.`}
      </p>
    </>
  );
}

/** A line, and what a person reads it as: tried on the past first. */
export function ReadOtherwise({
  line,
  read,
  chosen: as,
  choose,
  close,
}: {
  line: string;
  read: Category;
  chosen: string | null;
  choose: (as: Category | null) => void;
  close: () => void;
}) {
  const readings = useQuery(asked);
  const chosen = readings.data?.reasons.find((r) => r.category === as && r.category !== read)?.category ?? null;
  const [why, setWhy] = useState("");
  const tried = useQuery({
    queryKey: ["readings", "try", line, chosen],
    queryFn: () => ok(api.POST("/api/upkeep/readings/try", { body: { line, category: chosen! } })),
    enabled: chosen !== null,
  });
  const put = useMutation({
    mutationFn: () => ok(api.POST("/api/upkeep/readings", { body: { line, category: chosen!, why } })),
    onSuccess: close,
  });
  return (
    <section className="note" aria-label="Read a line otherwise">
      <p>
        <code>{line}</code>
      </p>
      <Loaded query={readings}>
        {({ reasons: all }) => (
          <p>
            From now on it is read as{" "}
            <Pick<string>
              label="Read it as"
              value={chosen ?? ""}
              options={[
                ["", "choose …"],
                ...all.filter((c) => c.category !== read).map((c) => [c.category, c.reason] as const),
              ]}
              onChange={(c) => choose(c === "" ? null : (c as Category))}
            />
            {chosen &&
              (all.find((c) => c.category === chosen)?.counts
                ? ": it counts against the address."
                : ": it doesn’t count against the address.")}
          </p>
        )}
      </Loaded>
      {chosen && <Loaded query={tried}>{(t) => <Tried t={t} />}</Loaded>}
      <div style={{ display: "flex", gap: 10, alignItems: "center", flexWrap: "wrap" }}>
        <TextField
          size="small"
          label="Why"
          value={why}
          onChange={(e) => setWhy(e.target.value)}
          slotProps={{ htmlInput: { maxLength: 500 } }}
          sx={{ minWidth: 360 }}
        />
        <Button
          variant="contained"
          size="small"
          disabled={!tried.data || why.trim() === "" || put.isPending}
          onClick={() => put.mutate()}
        >
          Read it so, and what failed before
        </Button>
        <button className="plain" onClick={close}>
          leave it
        </button>
      </div>
      <Failure error={put.error} />
    </section>
  );
}

/** Lines that a person reads otherwise, and did. */
export function Readings() {
  const readings = useQuery(asked);
  const end = useMutation({
    mutationFn: (id: number) => ok(api.POST("/api/upkeep/readings/{id}/end", { params: { path: { id } } })),
  });
  return (
    <Loaded query={readings}>
      {({ readings: all }) =>
        all.length === 0 ? null : (
          <>
            <h2>Read otherwise by a person</h2>
            <DataTable
              name="Read otherwise"
              rows={all}
              id={(r) => r.id}
              dense
              columns={(col) => [
                col.text("Line", (r) => r.line),
                col.text("Read as", (r) => r.reason),
                col.text("By the rules", (r) => r.by_rules),
                col.text("Why", (r) => `${r.why}${r.person ? ` (${r.person})` : ""}`),
                col.day("Since", (r) => r.at),
                col.text("Until", (r) =>
                  r.ended_at ? `${date(r.ended_at)}${r.ended_by ? ` (${r.ended_by})` : ""}` : "in force",
                ),
                col.acts((r) =>
                  r.ended_at ? null : (
                    <button className="plain" disabled={end.isPending} onClick={() => end.mutate(r.id)}>
                      by the rules again
                    </button>
                  ),
                ),
              ]}
            />
            <Failure error={end.error} />
          </>
        )
      }
    </Loaded>
  );
}
