import { Button, Checkbox, Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { FileButton } from "../../shared/FileButton";
import { count, date, plural } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { useContactSlips } from "../contacts/useContactSlips";
import type { Tree } from "./leaf";

function People({ id }: { id: number }) {
  const look = useQuery({
    queryKey: ["look", { kind: "segment", segment: id }],
    queryFn: () => ok(api.POST("/api/segments/look", { body: { kind: "segment", segment: id } })),
  });
  if (look.error) return <span className="bad">{look.error.message}</span>;
  return <>{look.data ? count(look.data.people) : "…"}</>;
}

/** A segment that another system keeps: its file replaces the people whole. */
function Outside() {
  const take = useMutation({
    mutationFn: async (f: File) =>
      ok(
        api.PUT("/api/segments/outside/{name}", {
          params: { path: { name: f.name.replace(/\.[a-z]+$/i, "") } },
          body: await f.text(),
          bodySerializer: (b) => b,
          headers: { "content-type": "text/plain" },
        }),
      ),
  });
  return (
    <>
      <FileButton
        label="Addresses of a segment kept outside"
        accept=".txt,.csv"
        variant="outlined"
        busy={take.isPending}
        onFile={(f) => take.mutate(f)}
      >
        Replace one kept outside
      </FileButton>
      <span className="soft small">a file of addresses, one a line, named as the segment</span>
      {take.data && (
        <span className="note good" role="status">
          {plural(take.data.people, "person", "people")} in it now; {plural(take.data.unknown_count, "line")} of nobody
          here
          {take.data.unknown.length ? `: ${take.data.unknown.slice(0, 3).join(", ")}` : ""}.
        </span>
      )}
      <Failure error={take.error} />
    </>
  );
}

/** How the chosen ones overlap. */
function OverlapTable({ sets }: { sets: Tree[] }) {
  const overlap = useQuery({
    queryKey: ["overlap", sets],
    queryFn: () => ok(api.POST("/api/segments/overlap", { body: sets })),
  });
  return (
    <Loaded query={overlap}>
      {(o) => (
        <Table>
          <TableHead>
            <TableRow>
              <TableCell>People in both</TableCell>
              {o.names.map((n) => (
                <TableCell key={n} className="num">
                  {n}
                </TableCell>
              ))}
            </TableRow>
          </TableHead>
          <TableBody>
            {o.names.map((n, i) => (
              <TableRow key={n}>
                <TableCell>{n}</TableCell>
                {o.people[i]!.map((k, j) => (
                  <TableCell key={j} className={i === j ? "num soft" : "num"}>
                    {count(k)}
                  </TableCell>
                ))}
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
    </Loaded>
  );
}

export function SegmentsPage() {
  const slips = useContactSlips();
  const navigate = useNavigate();
  const segments = useQuery(queries.segments);
  const lists = useQuery(queries.lists);
  const [chosen, setChosen] = useState<Tree[]>([]);
  const has = (t: Tree) => chosen.some((c) => JSON.stringify(c) === JSON.stringify(t));
  const box = (t: Tree, name: string) => (
    <Checkbox
      size="small"
      slotProps={{ input: { "aria-label": `Compare ${name}` } }}
      checked={has(t)}
      onChange={(e) =>
        setChosen(e.target.checked ? [...chosen, t] : chosen.filter((c) => JSON.stringify(c) !== JSON.stringify(t)))
      }
    />
  );
  const row = (s: Schemas["Segment"]) => (
    <TableRow key={s.id}>
      <TableCell padding="checkbox">{box({ kind: "segment", segment: s.id }, s.name)}</TableCell>
      <TableCell>
        <Link to={`/contacts/segments/${s.id}`}>{s.name}</Link>
      </TableCell>
      <TableCell className="num">
        <People id={s.id} />
      </TableCell>
      <TableCell>{s.sentence}</TableCell>
      <TableCell>
        {s.kept}
        <br />
        <span className="soft small">{date(s.changed_at)}</span>
      </TableCell>
    </TableRow>
  );
  return (
    <Frame slips={slips}>
      <Loaded query={segments}>
        {(all) => (
          <>
            <div className="crumb">
              <span>Contacts</span>
            </div>
            <h1>Segments</h1>
            <p className="finding">
              {all.length ? (
                <>
                  <em>{plural(all.length, "segment")}</em> {all.length === 1 ? "picks" : "pick"} people out of the base.
                </>
              ) : (
                "No segment picks people out yet."
              )}
            </p>
            {all.length === 0 && (
              <p className="soft">
                A segment is a sentence about people: who they are, what they joined, how they answered, what they
                bought.
              </p>
            )}
            <div className="acts">
              <Button variant="contained" onClick={() => void navigate("/contacts/segments/new")}>
                Write a segment
              </Button>
              <Outside />
            </div>
            {all.length > 0 && (
              <Table>
                <TableHead>
                  <TableRow>
                    <TableCell padding="checkbox">Compare</TableCell>
                    <TableCell>Segment</TableCell>
                    <TableCell className="num">People</TableCell>
                    <TableCell>Who they are</TableCell>
                    <TableCell>Kept</TableCell>
                  </TableRow>
                </TableHead>
                <TableBody>
                  {all.map(row)}
                  {lists.data?.map((l) => (
                    <TableRow key={`list-${l.id}`}>
                      <TableCell padding="checkbox">{box({ kind: "list", list: l.id }, l.name)}</TableCell>
                      <TableCell>
                        <Link to={`/contacts?list=${l.id}`}>{l.name}</Link>
                      </TableCell>
                      <TableCell className="num">{count(l.people)}</TableCell>
                      <TableCell className="soft">on this list</TableCell>
                      <TableCell>list</TableCell>
                    </TableRow>
                  ))}
                </TableBody>
              </Table>
            )}
            {chosen.length > 1 && (
              <>
                <h2>Overlap</h2>
                <OverlapTable sets={chosen} />
              </>
            )}
          </>
        )}
      </Loaded>
    </Frame>
  );
}
