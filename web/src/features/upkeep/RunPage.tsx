import { Button } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { everything } from "../../api/cache";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, instant, plural, words } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Failure, Loaded } from "../../shared/states";
import { useProgress } from "../../shared/useProgress";
import { RunPeople } from "./RunPeople";
import { sum, withInterval } from "./run";
import { useUpkeepSlips } from "./useUpkeepSlips";

type Run = Schemas["RunPage"];
type Rate = Schemas["Rate"];

/** A rate with its interval and its counts. */
const shown = (r: Rate) => (r.of === 0 ? "–" : withInterval(r, `; ${count(r.count)} of ${count(r.of)}`));

const NOT_STATUS = ["sunset", "kept_back", "deleted"];

function Finding({ r }: { r: Run }) {
  const moves = (before: boolean, after: boolean) =>
    sum(r, (g) =>
      (g.before === "retired") === before && (g.after === "retired") === after && !NOT_STATUS.includes(g.after)
        ? g.people - g.taken_out
        : 0,
    );
  const to = (after: Schemas["Becomes"]) => sum(r, (g) => (g.after === after ? g.people - g.taken_out : 0));
  const [out, back] = [moves(false, true), moves(true, false)];
  const [sunset, kept, deleted] = [to("sunset"), to("kept_back"), to("deleted")];
  const rest = sum(r, (g) => g.people - g.taken_out) - out - back - sunset - kept - deleted;
  const would = r.state === "proposed" || r.state === "proposing";
  const were = would ? "would be" : "were";
  const said = [
    out > 0 && `${plural(out, "address", "addresses")} ${were} retired`,
    back > 0 && `${plural(back, "address", "addresses")} ${were} brought back`,
    sunset > 0 && `${plural(sunset, "silent person", "silent people")} ${were} sunset`,
    kept > 0 && `${plural(kept, "person", "people")} ${were} kept back to measure that`,
    deleted > 0 && `${plural(deleted, "retired address", "retired addresses")} ${were} deleted`,
    rest > 0 && `${plural(rest, "address", "addresses")} ${were} moved otherwise`,
  ].filter(Boolean);
  if (said.length === 0) return <>Nobody’s status {would ? "would change" : "changed"} by it.</>;
  return (
    <>
      <em>{said[0]}</em>
      {said.length > 1 && `, ${said.slice(1).join(", ")}`}
      {r.state === "undone" ? "; the run was undone" : ""}.
    </>
  );
}

/** What it would do to the figures, and what came of it. */
function Effects({ r }: { r: Run }) {
  const e = r.effect;
  if (!e) return null;
  const rows = [
    { what: "People who can be mailed", now: count(e.mailable), then: count(e.mailable_after) },
    { what: "Accepted by hosts", now: shown(e.accepted), then: shown(e.accepted_after) },
    { what: "Bounced", now: shown(e.bounced), then: shown(e.bounced_after) },
    { what: "Opened, where it can be known", now: shown(e.opened), then: shown(e.opened_after) },
  ];
  return (
    <>
      <h2>What it does to the figures</h2>
      <DataTable
        name="Effect"
        rows={rows}
        id={(x) => x.what}
        plain
        columns={(col) => [
          col.text("Of the last 90 days", (x) => x.what),
          col.text("As it was", (x) => x.now),
          col.text("Without these people", (x) => x.then),
        ]}
      />
      <p className="soft">
        {count(e.answered.count)} of the {count(e.answered.of)} people on it opened, clicked, replied or bought in the
        90 days before.
        {r.came && r.came.taken_out.of > 0 && (
          <>
            {" "}
            Since it was applied {count(r.came.taken_out.count)} of {count(r.came.taken_out.of)} who are not mailed any
            more bought or answered all the same: {shown(r.came.taken_out)}; {count(r.came.taken_out_complained.count)}{" "}
            complained.
          </>
        )}
        {r.came && r.came.still_in.of > 0 && (
          <>
            {" "}
            Of those who stayed or were put back {count(r.came.still_in.count)} of {count(r.came.still_in.of)} did, and{" "}
            {count(r.came.still_in_complained.count)} complained.
          </>
        )}
      </p>
    </>
  );
}

function Open({ r }: { r: Run }) {
  const path = { id: r.id };
  const [cause, setCause] = useState<Schemas["Cause"] | null>(null);
  const progress = useProgress(
    `cleaning-${r.id}`,
    everything,
    r.state === "applying" || r.state === "undoing" || r.state === "proposing",
  );
  const apply = useMutation({ mutationFn: () => ok(api.POST("/api/upkeep/runs/{id}/apply", { params: { path } })) });
  const drop = useMutation({ mutationFn: () => ok(api.POST("/api/upkeep/runs/{id}/drop", { params: { path } })) });
  const undo = useMutation({
    mutationFn: (of: { cause?: Schemas["Cause"] }) =>
      ok(api.POST("/api/upkeep/runs/{id}/undo", { params: { path }, body: of })),
  });
  const deleted = sum(r, (g) => (g.after === "deleted" ? g.people - g.taken_out : 0));
  const left = sum(r, (g) => g.people - g.taken_out);
  return (
    <>
      <div className="crumb">
        <span>Upkeep</span>
        <span>cleaning run {r.id}</span>
        <span>{r.state}</span>
      </div>
      <h1>{r.kind === "policy" ? "A version of the policy" : r.applied_at == null ? "What is due" : "What was due"}</h1>
      <p className="finding">
        <Finding r={r} />
      </p>
      <p className="soft">
        Proposed {instant(r.made_at)} by {r.person ?? "Rinse"}
        {r.note && `: ${r.note}`}.{r.applied_at != null && ` Applied ${instant(r.applied_at)}.`}
        {r.state === "undone" && ` Undone ${instant(r.undone_at)}.`}
      </p>
      {progress?.running && (
        <p role="status">
          {progress.words} … {progress.total > 0 && `${count(progress.done)} of ${count(progress.total)}`}
        </p>
      )}
      {progress?.error && <p className="note bad">{progress.error}</p>}
      {r.groups.length > 0 && (
        <DataTable
          name="By reason"
          rows={r.groups}
          id={(g) => `${g.cause}-${g.before}-${g.after}`}
          columns={(col) => [
            col.shown(
              "Why",
              (g) => g.words,
              (g) => (
                <button className="plain" onClick={() => setCause(cause === g.cause ? null : g.cause)}>
                  {g.words}
                </button>
              ),
            ),
            col.text("From", (g) => g.before),
            col.text("To", (g) => words(g.after)),
            col.number("People", (g) => g.people),
            col.number("Taken out", (g) => g.taken_out),
            r.applied_at == null &&
              col.text("Answered or bought in the 90 days before", (g) => {
                const by = r.effect?.answered_by.find((a) => a.cause === g.cause);
                return by ? shown(by.answered) : "–";
              }),
            r.applied_at != null && col.number("Changed by it", (g) => g.applied),
            r.applied_at != null && col.number("Put back", (g) => g.put_back),
            r.undoable &&
              col.acts((g) =>
                g.applied - g.not_put_back > 0 && g.after !== "deleted" ? (
                  <button className="plain" disabled={undo.isPending} onClick={() => undo.mutate({ cause: g.cause })}>
                    Undo these<span className="away">: {g.words}</span>
                  </button>
                ) : null,
              ),
          ]}
        />
      )}
      <div style={{ display: "flex", gap: 10, alignItems: "center", margin: "14px 0" }}>
        {r.state === "proposed" && (
          <>
            <Button variant="contained" disabled={apply.isPending} onClick={() => apply.mutate()}>
              {r.kind === "policy" ? "Bring it into force" : `Apply to ${count(left)}`}
            </Button>
            <Button variant="outlined" disabled={drop.isPending} onClick={() => drop.mutate()}>
              Drop the run
            </Button>
            <span className="soft">
              It can be undone for 30 days, where nothing happened to the person since
              {deleted > 0 && `; the ${plural(deleted, "deletion", "deletions")} can’t`}.
            </span>
          </>
        )}
        {r.undoable && (
          <Button variant="outlined" color="error" disabled={undo.isPending} onClick={() => undo.mutate({})}>
            Undo the run
          </Button>
        )}
        {r.applied_at != null && sum(r, (g) => g.not_put_back) > 0 && (
          <span className="soft">
            {count(sum(r, (g) => g.not_put_back))} could not be put back: something happened to them since.
          </span>
        )}
      </div>
      <Failure error={apply.error ?? drop.error ?? undo.error} />
      {r.groups.length > 0 && <RunPeople run={r} cause={cause} />}
      <Effects r={r} />
    </>
  );
}

/** A cleaning run: read, applied, undone. */
export function RunPage() {
  const id = Number(useParams().id);
  const slips = useUpkeepSlips();
  const run = useQuery({
    queryKey: ["cleaning-run", id],
    queryFn: () => ok(api.GET("/api/upkeep/runs/{id}", { params: { path: { id } } })),
  });
  return (
    <Frame slips={slips}>
      <Loaded query={run}>{(r) => <Open key={id} r={r} />}</Loaded>
    </Frame>
  );
}
