import { useMutation } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { count, instant } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Failure } from "../../shared/states";

/** Reactions with what they did; a count opens to whom. */
export function ReactionList({ all, where }: { all: Schemas["KeptReaction"][]; where: boolean }) {
  const flip = useMutation({
    mutationFn: ({ id, on }: { id: number; on: boolean }) =>
      ok(api.POST("/api/reactions/{id}/switch", { params: { path: { id } }, body: { on } })),
  });
  return (
    <>
      <DataTable
        name="Reactions"
        rows={all}
        id={(r) => r.id}
        columns={(col) => [
          col.shown(
            "Reaction",
            (r) => r.words,
            (r) => <Link to={`/mailings/reactions/${r.id}`}>{r.words}</Link>,
          ),
          where && col.text("Where", (r) => r.mailing ?? "everywhere"),
          col.text(
            "On since",
            (r) => (r.ended_at ? `ended ${instant(r.ended_at)}` : r.on_at ? instant(r.on_at) : "off"),
            {
              whole: true,
            },
          ),
          col.shown(
            "Acted",
            (r) => r.done,
            (r) => <Link to={`/mailings/reactions/${r.id}`}>{count(r.done)}</Link>,
            { num: true },
          ),
          col.number("Taken back", (r) => r.taken_back),
          col.acts((r) => (
            <>
              {!r.ended_at && (
                <button
                  className="plain"
                  style={{ whiteSpace: "nowrap" }}
                  onClick={() => flip.mutate({ id: r.id, on: !r.on_at })}
                >
                  {r.on_at ? "Switch off" : "Switch on"}
                  <span className="away">: {r.words}</span>
                </button>
              )}
            </>
          )),
        ]}
      />
      <Failure error={flip.error} />
    </>
  );
}
