import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { count, instant } from "../../shared/format";
import { Failure } from "../../shared/states";

/** Reactions with what they did; a count opens to whom. */
export function ReactionList({ all, where }: { all: Schemas["KeptReaction"][]; where: boolean }) {
  const client = useQueryClient();
  const flip = useMutation({
    mutationFn: ({ id, on }: { id: number; on: boolean }) =>
      ok(api.POST("/api/reactions/{id}/switch", { params: { path: { id } }, body: { on } })),
    onSuccess: () => client.invalidateQueries(),
  });
  return (
    <>
      <Table>
        <TableHead>
          <TableRow>
            <TableCell>Reaction</TableCell>
            {where && <TableCell>Where</TableCell>}
            <TableCell>On since</TableCell>
            <TableCell className="num">Acted</TableCell>
            <TableCell className="num">Taken back</TableCell>
            <TableCell />
          </TableRow>
        </TableHead>
        <TableBody>
          {all.map((r) => (
            <TableRow key={r.id}>
              <TableCell>
                <Link to={`/mailings/reactions/${r.id}`}>{r.words}</Link>
              </TableCell>
              {where && <TableCell>{r.mailing ?? "everywhere"}</TableCell>}
              <TableCell style={{ whiteSpace: "nowrap" }}>
                {r.ended_at ? `ended ${instant(r.ended_at)}` : r.on_at ? instant(r.on_at) : "off"}
              </TableCell>
              <TableCell className="num">
                <Link to={`/mailings/reactions/${r.id}`}>{count(r.done)}</Link>
              </TableCell>
              <TableCell className="num">{count(r.taken_back)}</TableCell>
              <TableCell>
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
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      <Failure error={flip.error} />
    </>
  );
}
