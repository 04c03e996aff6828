import { Button } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, ok } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { ByLabel, useByOwnLabel } from "../../shared/ByLabel";
import { date, percent, plural } from "../../shared/format";
import { Pick } from "../../shared/Pick";
import { DataTable } from "../../shared/table/DataTable";
import { Failure, Loaded } from "../../shared/states";
import { useSeriesSlips } from "./useSeriesSlips";

const ROW = {
  display: "grid",
  gridTemplateColumns: "180px 1fr",
  gap: 16,
  alignItems: "center",
  borderTop: "1px solid var(--rule)",
  padding: "8px 0",
} as const;

/** Makes a series: empty, or from an outline to begin with. */
function Make() {
  const navigate = useNavigate();
  const starters = useQuery(queries.starters);
  const letterheads = useQuery(queries.letterheads);
  const [name, setName] = useState("");
  const [letterhead, setLetterhead] = useState<number | null>(null);
  const under = letterhead ?? letterheads.data?.[0]?.id ?? null;
  const make = useMutation({
    mutationFn: (starter: string | null) =>
      ok(api.POST("/api/series", { body: { name, letterhead_id: under!, starter } })),
    onSuccess: async (id) => {
      void navigate(`/series/${id}`);
    },
  });
  if (under === null)
    return (
      <p className="note">
        A series needs a letterhead: <Link to="/setup/letterheads/0">make one first</Link>.
      </p>
    );
  return (
    <section className="group" style={{ margin: "20px 0", maxWidth: 900 }} aria-label="Make a series">
      <h2 style={{ marginTop: 0 }}>Make a series</h2>
      <p>
        Under the letterhead{" "}
        <Pick
          label="Letterhead"
          value={under}
          options={(letterheads.data ?? []).map((l) => [l.id!, l.name] as const)}
          onChange={setLetterhead}
        />
      </p>
      {(starters.data ?? []).map((s) => (
        <div key={s.key} style={ROW}>
          <Button variant="outlined" size="small" disabled={make.isPending} onClick={() => make.mutate(s.key)}>
            {s.name}
          </Button>
          <span>
            {s.words}{" "}
            <span className="soft">{plural(s.messages, "message")} as drafts, to be put into your words.</span>
          </span>
        </div>
      ))}
      <div style={ROW}>
        <Button
          variant="outlined"
          size="small"
          disabled={make.isPending || !name.trim()}
          onClick={() => make.mutate(null)}
        >
          An empty one
        </Button>
        <input
          className="bare"
          style={{ width: 300 }}
          aria-label="Name of the series"
          placeholder="Name"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
      </div>
      <Failure error={make.error} />
    </section>
  );
}

/** Every series, with how many are inside. */
export function SeriesHome() {
  const { slips, series } = useSeriesSlips();
  const { label, labels, carries } = useByOwnLabel("series");
  return (
    <Frame slips={slips}>
      <Loaded query={series}>
        {(every) => {
          const all = every.filter((s) => carries(s.id));
          const running = all.filter((s) => s.state === "running");
          const inside = running.reduce((n, s) => n + s.inside, 0);
          return (
            <>
              <div className="crumb">
                <span>Series</span>
              </div>
              <h1>Series</h1>
              <p className="finding">
                {running.length ? (
                  <>
                    <em>{plural(running.length, "series", "series")}</em> {running.length === 1 ? "runs" : "run"}, with{" "}
                    {plural(inside, "person", "people")} inside.
                  </>
                ) : (
                  "No series runs: nobody gets a message on their own occasion."
                )}
              </p>
              <ByLabel labels={labels} label={label} />
              {all.length > 0 && (
                <DataTable
                  name="Series"
                  rows={all}
                  id={(s) => s.id}
                  columns={(col) => [
                    col.shown(
                      "Series",
                      (s) => s.name,
                      (s) => (
                        <>
                          <Link to={`/series/${s.id}`}>{s.name}</Link>
                          <div className="soft small">{s.words}</div>
                        </>
                      ),
                    ),
                    col.shown(
                      "State",
                      (s) => (s.paused ? "paused" : s.state),
                      (s) => (
                        <>
                          {s.paused ? "paused" : s.state}
                          {s.started_at && <div className="soft small">since {date(s.started_at)}</div>}
                        </>
                      ),
                      { whole: true },
                    ),
                    col.number("Entered", (s) => s.entered),
                    col.number("Inside", (s) => s.inside),
                    col.shown(
                      "Came through, of those out",
                      (s) => (s.through.of ? s.through.rate : null),
                      (s) => (
                        <>
                          {s.through.of ? percent(s.through.rate) : "–"}
                          {s.through.of > 0 && (
                            <div className="soft small">
                              {percent(s.through.lower)} to {percent(s.through.upper)}
                              {s.through.thin ? ", thin" : ""}
                            </div>
                          )}
                        </>
                      ),
                      { num: true },
                    ),
                  ]}
                />
              )}
              <Make />
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
