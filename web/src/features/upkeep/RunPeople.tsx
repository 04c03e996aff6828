import { useInfiniteQuery, useMutation } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { words } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { More } from "../../shared/table/More";
import { Failure, Loaded } from "../../shared/states";

type Member = Schemas["CleaningMember"];
const PAGE = 100;

/** The people of a run with their evidence; before it is applied each can be taken out. */
export function RunPeople({ run, cause }: { run: Schemas["RunPage"]; cause: Schemas["Cause"] | null }) {
  const path = { id: run.id };
  const pages = useInfiniteQuery({
    queryKey: ["cleaning-run", run.id, "people", cause],
    queryFn: ({ pageParam }) =>
      ok(
        api.GET("/api/upkeep/runs/{id}/people", {
          params: { path, query: { after: pageParam, ...(cause && { cause }) } },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (last) => (last.length === PAGE ? last.at(-1)!.contact_id : undefined),
  });
  const out = useMutation({
    mutationFn: (m: Member) =>
      ok(
        api.POST("/api/upkeep/runs/{id}/people/{contact}", {
          params: { path: { ...path, contact: m.contact_id } },
          body: { out: m.state === "proposed" },
        }),
      ),
  });
  const undo = useMutation({
    mutationFn: (m: Member) =>
      ok(api.POST("/api/upkeep/runs/{id}/undo", { params: { path }, body: { contact: m.contact_id } })),
  });
  const act = (m: Member) => {
    if (run.state === "proposed")
      return (
        <button className="plain" disabled={out.isPending} onClick={() => out.mutate(m)}>
          {m.state === "proposed" ? "Take out" : "Put on again"}
          <span className="away"> {m.address}</span>
        </button>
      );
    if (run.undoable && m.state === "applied")
      return (
        <button className="plain" disabled={undo.isPending} onClick={() => undo.mutate(m)}>
          Undo<span className="away"> for {m.address}</span>
        </button>
      );
    return <span className="soft">{words(m.state)}</span>;
  };
  return (
    <>
      <h2>People{cause && `: ${words(cause)}`}</h2>
      <Loaded query={pages}>
        {(d) => (
          <DataTable
            name="People of the run"
            rows={d.pages.flat()}
            id={(m) => m.contact_id}
            dense
            columns={(col) => [
              col.shown(
                "Address",
                (m) => m.address,
                (m) => (m.address === "" ? "deleted" : <Link to={`/contacts/${m.contact_id}`}>{m.address}</Link>),
              ),
              col.text("Evidence", (m) => m.why),
              col.acts(act, { whole: true }),
            ]}
          />
        )}
      </Loaded>
      <More pages={pages} csv={`/api/upkeep/runs/${run.id}/people.csv`} all="All as CSV" />
      <Failure error={out.error ?? undo.error} />
    </>
  );
}
