import { Button } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok } from "../../api/client";
import { queries } from "../../api/queries";
import { instant } from "../../shared/format";
import { Pick } from "../../shared/Pick";
import { Failure } from "../../shared/states";

/** The series that somebody is or was in, and putting them into one. */
export function SeriesOfPerson({ contact }: { contact: number }) {
  const theirs = useQuery({
    queryKey: ["series-of", contact],
    queryFn: () => ok(api.GET("/api/contacts/{id}/series", { params: { path: { id: contact } } })),
  });
  const all = useQuery(queries.series);
  const inside = new Set((theirs.data ?? []).filter((s) => s.ended_at == null).map((s) => s.series));
  const open = (all.data ?? []).filter((s) => s.state === "running" && !inside.has(s.id));
  const [chosen, setChosen] = useState<number | null>(null);
  const into = open.find((s) => s.id === chosen)?.id ?? open[0]?.id;
  const put = useMutation({
    mutationFn: () =>
      ok(
        api.POST("/api/series/{id}/people", {
          params: { path: { id: into! } },
          body: { contacts: [contact], addresses: [], list: null },
        }),
      ),
  });
  if ((theirs.data ?? []).length === 0 && open.length === 0) return null;
  return (
    <>
      <h2>Series</h2>
      {(theirs.data ?? []).map((s, i) => (
        <p key={i} style={{ margin: "2px 0" }}>
          <Link to={`/series/${s.series}`}>{s.name}</Link>{" "}
          {s.ended_at == null ? (
            <>
              at “{s.at}”
              <span className="soft">
                {" "}
                since {instant(s.entered_at)}, {s.cause}
                {s.due != null && `; next ${instant(s.due)}`}
              </span>
            </>
          ) : (
            <span className="soft">
              {s.ended} {instant(s.ended_at)}, in it since {instant(s.entered_at)}
            </span>
          )}
        </p>
      ))}
      {into !== undefined && (
        <p>
          <Pick
            label="Series to put them into"
            value={into}
            options={open.map((s) => [s.id, s.name] as const)}
            onChange={setChosen}
          />{" "}
          <Button variant="outlined" size="small" disabled={put.isPending} onClick={() => put.mutate()}>
            Put into this series
          </Button>{" "}
          {put.data && (put.data.entered ? "They are in it." : "They don’t enter: they were in it before, or left it.")}
        </p>
      )}
      <Failure error={put.error} />
    </>
  );
}
