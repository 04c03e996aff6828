import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { count, date, plural } from "../../shared/format";
import { Failure } from "../../shared/states";

/** Domains and people close to what is barred: one key bars or dismisses each, and the choice is remembered. */
export function NearMisses() {
  const found = useQuery(queries.nearMisses);
  const [said, setSaid] = useState("");
  const decide = useMutation({
    mutationFn: ({ n, bar }: { n: Schemas["NearMiss"]; bar: boolean }) =>
      ok(
        api.POST("/api/suppression/near-misses", {
          body: { subject: n.subject, list_id: bar ? n.list_id : null },
        }),
      ),
    onSuccess: (_, { n, bar }) => {
      setSaid(bar ? `${n.text} is on ${n.list} now.` : `${n.text} won’t be brought up again.`);
    },
  });
  const rows = found.data ?? [];
  if (rows.length === 0 && !said) return null;
  return (
    <>
      <h2>Shortlist: {rows.length === 0 ? "nothing is left" : `${plural(rows.length, "near-miss", "near-misses")}`}</h2>
      <p className="soft" style={{ marginTop: 0, maxWidth: "56em" }}>
        Close to what is barred, and not barred by guess. On a line, press <b>b</b> to bar it on the list it comes close
        to, <b>d</b> to dismiss it.
      </p>
      {said && (
        <p className="note good" role="status">
          {said}
        </p>
      )}
      <Failure error={decide.error} />
      {rows.length > 0 && (
        <Table>
          <TableHead>
            <TableRow>
              <TableCell>Domain or person</TableCell>
              <TableCell>Why</TableCell>
              <TableCell className="num">People</TableCell>
              <TableCell>First seen</TableCell>
              <TableCell>Comes close to</TableCell>
              <TableCell />
            </TableRow>
          </TableHead>
          <TableBody>
            {rows.map((n) => (
              <TableRow
                key={n.subject}
                tabIndex={0}
                aria-label={`${n.text}, ${n.why}`}
                onKeyDown={(e) => {
                  if (e.key !== "b" && e.key !== "d") return;
                  const next = e.currentTarget.nextElementSibling ?? e.currentTarget.previousElementSibling;
                  (next as HTMLElement | null)?.focus();
                  decide.mutate({ n, bar: e.key === "b" });
                }}
              >
                <TableCell>
                  {n.contact_id ? (
                    <Link to={`/contacts/${n.contact_id}`}>{n.text}</Link>
                  ) : (
                    <Link to={`/contacts?search=@${n.text}`}>{n.text}</Link>
                  )}
                </TableCell>
                <TableCell>{n.why}</TableCell>
                <TableCell className="num">{count(n.people)}</TableCell>
                <TableCell>{date(n.first_seen)}</TableCell>
                <TableCell>
                  {n.barred} <span className="soft">on {n.list}</span>
                </TableCell>
                <TableCell className="num" style={{ whiteSpace: "nowrap" }}>
                  <button className="plain" onClick={() => decide.mutate({ n, bar: true })}>
                    Bar<span className="away"> {n.text}</span>
                  </button>{" "}
                  <button className="plain" onClick={() => decide.mutate({ n, bar: false })}>
                    Dismiss<span className="away"> {n.text}</span>
                  </button>
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
    </>
  );
}
