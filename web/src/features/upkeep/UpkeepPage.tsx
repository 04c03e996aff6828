import { Button } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { count, date, plural } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Failure, Loaded } from "../../shared/states";
import { IncidentNote } from "./IncidentNote";
import { MadeOf } from "./MadeOf";
import { useUpkeepSlips } from "./useUpkeepSlips";

/** The sentence of the station: what is due, or that nothing is. */
function Finding({ u }: { u: Schemas["Upkeep"] }) {
  const rest = [
    u.silent_due > 0 && `${plural(u.silent_due, "silent person", "silent people")} let it pass when asked`,
    u.to_delete > 0 && `${plural(u.to_delete, "retired address is", "retired addresses are")} old enough to be deleted`,
  ].filter(Boolean);
  if (u.due > 0)
    return (
      <>
        <em>{plural(u.due, "address", "addresses")}</em> {u.due === 1 ? "is" : "are"} due for cleaning: not mailed until
        you have read why{rest.map((r) => `; ${r}`)}.
      </>
    );
  if (rest.length > 0)
    return (
      <>
        <em>{rest[0]}</em>
        {rest.slice(1).map((r) => `; ${r}`)}.
      </>
    );
  const out = u.base.retired + u.base.resting;
  return (
    <>
      <em>Nothing is due.</em> {count(out)} addresses are not mailed: {count(u.base.retired)} retired,{" "}
      {count(u.base.resting)} resting.
    </>
  );
}

/** What the base is made of, and what is due. */
export function UpkeepPage() {
  const slips = useUpkeepSlips();
  const upkeep = useQuery(queries.upkeep);
  const go = useNavigate();
  const propose = useMutation({
    mutationFn: () => ok(api.POST("/api/upkeep/runs", { body: { note: "" } })),
    onSuccess: (r) => void go(`/upkeep/runs/${r.run}`),
  });
  return (
    <Frame slips={slips}>
      <Loaded query={upkeep}>
        {(u) => {
          const { active, observed, resting, retired, sunset, tombstones } = u.base;
          const all = active + observed + resting + retired + sunset + tombstones;
          if (all === 0)
            return (
              <>
                <div className="crumb">
                  <span>Upkeep</span>
                </div>
                <h1>What the base is made of, and what is due</h1>
                <p className="finding">Nobody is here yet.</p>
                <p className="soft">
                  Addresses that fail are rested, observed and retired here, each with the reason.{" "}
                  <Link to="/contacts/add">Bring people in</Link> first.
                </p>
              </>
            );
          const due = u.due + u.silent_due + u.to_delete;
          const open = u.runs.find((r) => r.applied_at == null);
          return (
            <>
              <div className="crumb">
                <span>Upkeep</span>
                <span>
                  policy version {u.policy_version}
                  {u.policy_at > 0 && ` of ${date(u.policy_at)}`}
                </span>
              </div>
              <h1>What the base is made of, and what is due</h1>
              <p className="finding">
                <Finding u={u} />
              </p>
              {u.incidents.map((i) => (
                <IncidentNote key={i.id} i={i} />
              ))}
              <MadeOf days={u.days} runs={u.runs} />
              {u.by_cause.length > 0 && (
                <DataTable
                  name="Why addresses are not mailed as usual"
                  rows={u.by_cause}
                  id={(r) => `${r.status}-${r.cause}-${r.due}`}
                  columns={(col) => [
                    col.shown(
                      "Why",
                      (r) => r.words,
                      (r) => (
                        <Link to={`/upkeep/addresses?status=${r.status}&cause=${r.cause}`}>
                          {r.words.charAt(0).toUpperCase() + r.words.slice(1)}
                        </Link>
                      ),
                    ),
                    col.text("Now", (r) => (r.due ? "due for cleaning" : r.status)),
                    col.number("Addresses", (r) => r.people),
                  ]}
                />
              )}
              <div style={{ display: "flex", gap: 10, alignItems: "center", marginTop: 14 }}>
                {open ? (
                  <Button variant="contained" component={Link} to={`/upkeep/runs/${open.id}`}>
                    Read run {open.id}
                  </Button>
                ) : (
                  due > 0 && (
                    <Button variant="contained" disabled={propose.isPending} onClick={() => propose.mutate()}>
                      Propose a run of {count(due)}
                    </Button>
                  )
                )}
                <span className="soft">
                  {u.at_once
                    ? "The rules retire by themselves; the policy can leave that to runs that a person reads."
                    : "Retired by runs only: read by a person, undone for 30 days."}
                </span>
              </div>
              <Failure error={propose.error} />
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
