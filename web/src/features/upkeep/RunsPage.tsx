import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { count, plural } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Failure, Loaded } from "../../shared/states";
import { WEEKDAYS } from "../../shared/time";
import { sum } from "./run";
import { useUpkeepSlips } from "./useUpkeepSlips";

/** The days on which a run is proposed by itself. */
function Schedule() {
  const schedule = useQuery(queries.schedule);
  const set = useMutation({
    mutationFn: (every: Schemas["CleaningEvery"] | null) => ok(api.PUT("/api/upkeep/schedule", { body: { every } })),
  });
  const every = schedule.data?.every;
  const value = every == null ? "never" : every.every === "month" ? "month" : String(every.weekday);
  const choose = (v: string) =>
    set.mutate(v === "never" ? null : v === "month" ? { every: "month" } : { every: "week", weekday: Number(v) });
  return (
    <p>
      <label>
        Proposed by itself:{" "}
        <select
          className="bare"
          value={value}
          disabled={!schedule.data || set.isPending}
          onChange={(e) => choose(e.target.value)}
        >
          <option value="never">never</option>
          {WEEKDAYS.map((d, i) => (
            <option key={d} value={i}>
              each {d}
            </option>
          ))}
          <option value="month">on the first of each month</option>
        </select>
      </label>{" "}
      <span className="soft">
        when something is due and no run is open. A person still reads it before it is applied.
      </span>
      <Failure error={set.error} />
    </p>
  );
}

/** All cleaning runs, the newest first. */
export function RunsPage() {
  const slips = useUpkeepSlips();
  const runs = useQuery(queries.cleaningRuns);
  return (
    <Frame slips={slips}>
      <Loaded query={runs}>
        {(all) => {
          const applied = all.filter((r) => r.applied_at != null);
          const out = applied.reduce((n, r) => n + sum(r, (g) => (g.after === "retired" ? g.applied : 0)), 0);
          return (
            <>
              <div className="crumb">
                <span>Upkeep</span>
              </div>
              <h1>Cleaning runs</h1>
              <p className="finding">
                {all.length === 0 ? (
                  "Nothing was cleaned by a run yet."
                ) : (
                  <>
                    <em>{plural(applied.length, "run")}</em> {applied.length === 1 ? "was" : "were"} applied;{" "}
                    {plural(out, "address", "addresses")} {out === 1 ? "is" : "are"} retired by them.
                  </>
                )}
              </p>
              <p className="soft">
                A run is proposed, read by a person, applied, and can be undone for 30 days. One of the policy brings a
                version of it into force.
              </p>
              <Schedule />
              {all.length > 0 && (
                <DataTable
                  name="Cleaning runs"
                  rows={all}
                  id={(r) => r.id}
                  columns={(col) => [
                    col.shown(
                      "Run",
                      (r) => r.id,
                      (r) => (
                        <Link to={`/upkeep/runs/${r.id}`}>
                          {r.id}: {r.kind === "policy" ? "a policy" : "what was due"}
                        </Link>
                      ),
                    ),
                    col.text("State", (r) => r.state),
                    col.when("Proposed", (r) => r.made_at),
                    col.when("Applied", (r) => r.applied_at),
                    col.text("Who", (r) => r.person ?? "–"),
                    col.number("People", (r) => sum(r, (g) => g.people)),
                    col.number("Put back", (r) => sum(r, (g) => g.put_back)),
                    col.text("Why", (r) => r.note),
                  ]}
                />
              )}
              <p className="soft small">{count(all.length)} runs; the newest 100 are kept in this list.</p>
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
