import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { count, plural } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Loaded } from "../../shared/states";
import { sum } from "./run";
import { useUpkeepSlips } from "./useUpkeepSlips";

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
