import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { api, ok } from "../../api/client";
import { instant } from "../../shared/format";

/** A person's scores, with the entries they add up from. */
export function OwnScores({ id }: { id: number }) {
  const scores = useQuery({
    queryKey: ["scores-of", id],
    queryFn: () => ok(api.GET("/api/contacts/{id}/scores", { params: { path: { id } } })),
  });
  return (scores.data ?? []).map((s) => (
    <section key={s.id}>
      <h2>
        {s.name}: {s.now < 0 ? "−" : ""}
        {Math.abs(s.now).toFixed(1)}
      </h2>
      <p className="soft small" style={{ marginTop: 0 }}>
        {s.half_life_days == null
          ? "The sum of its entries."
          : `The sum of its entries, of each of which half is left after ${s.half_life_days} days.`}
      </p>
      <Table size="small">
        <TableHead>
          <TableRow>
            <TableCell>When</TableCell>
            <TableCell className="num">Points</TableCell>
            <TableCell>Cause</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {s.entries.map((e, i) => (
            <TableRow key={i}>
              <TableCell style={{ whiteSpace: "nowrap" }}>{instant(e.at)}</TableCell>
              <TableCell className="num">
                {e.points > 0 ? "+" : "−"}
                {Math.abs(e.points)}
              </TableCell>
              <TableCell>{e.why}</TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </section>
  ));
}
