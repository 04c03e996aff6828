import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ok } from "../../api/client";
import { count, money } from "../../shared/format";

/** What a mailing brought towards each goal. */
export function Brought({ id }: { id: number }) {
  const brought = useQuery({
    queryKey: ["brought", id],
    queryFn: () => ok(api.GET("/api/mailings/{id}/goals", { params: { path: { id } } })),
  });
  const rule = useQuery({ queryKey: ["attribution"], queryFn: () => ok(api.GET("/api/attribution")) }).data;
  const all = brought.data ?? [];
  if (all.length === 0) return null;
  return (
    <>
      <h2>Goals</h2>
      <Table size="small" sx={{ maxWidth: 820 }}>
        <TableHead>
          <TableRow>
            <TableCell>Goal</TableCell>
            <TableCell />
            <TableCell className="num">Conversions</TableCell>
            <TableCell className="num">People</TableCell>
            <TableCell className="num">Value, refunds off</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {all.map((b) => (
            <TableRow key={b.goal}>
              <TableCell>{b.name}</TableCell>
              <TableCell className="soft">{b.words}</TableCell>
              <TableCell className="num">{count(b.conversions)}</TableCell>
              <TableCell className="num">{count(b.people)}</TableCell>
              <TableCell className="num">{b.currency ? money(b.cents, b.currency) : "–"}</TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      {rule && (
        <p className="soft small">
          A conversion is put down to the {rule.by === "last_click" ? "last" : "first"} human click in the{" "}
          {rule.days === 1 ? "day" : `${rule.days} days`} before it, whichever mailing that was in (
          <Link to="/contacts/words">change this</Link>). It says what followed, not what the mailing caused: a trial or
          the holdout can tell that.
        </p>
      )}
    </>
  );
}
