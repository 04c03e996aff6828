import { Button } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, ok } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, instant, plural } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Failure, Loaded } from "../../shared/states";
import { useMailingSlips } from "../mailings/useMailingSlips";
import { ReactionForm } from "./ReactionForm";

/** One reaction: whom it concerned, when, and why. */
export function ReactionPage() {
  const { slips } = useMailingSlips();
  const id = Number(useParams().id);
  const navigate = useNavigate();
  const [changing, setChanging] = useState(false);
  const page = useQuery({
    queryKey: ["reaction", id],
    queryFn: () => ok(api.GET("/api/reactions/{id}", { params: { path: { id } } })),
  });
  const end = useMutation({
    mutationFn: () => ok(api.DELETE("/api/reactions/{id}", { params: { path: { id } } })),
    onSuccess: async () => {
      void navigate("/mailings/reactions");
    },
  });
  return (
    <Frame slips={slips}>
      <Loaded query={page}>
        {({ reaction: r, people }) => (
          <>
            <div className="crumb">
              <Link to="/mailings/reactions">Reactions</Link>
              <span>{r.mailing ?? "everywhere"}</span>
              <span>{r.ended_at ? "ended" : r.on_at ? `on since ${instant(r.on_at)}` : "off"}</span>
            </div>
            <h1>{r.words}</h1>
            <p className="finding">
              It has acted <em>{plural(r.done, "time")}</em>
              {r.taken_back > 0 && `; ${count(r.taken_back)} of them were taken back`}.
            </p>
            {changing ? (
              <ReactionForm
                mailing={r.rule.mailing ?? null}
                from={r}
                done={() => void navigate("/mailings/reactions")}
              />
            ) : (
              <div className="acts">
                {!r.ended_at && (
                  <>
                    <Button variant="outlined" onClick={() => setChanging(true)}>
                      Change it
                    </Button>
                    <Button variant="outlined" disabled={end.isPending} onClick={() => end.mutate()}>
                      End it
                    </Button>
                  </>
                )}
                {r.done > 0 && (
                  <Button variant="outlined" href={`/api/reactions/${r.id}/people.csv`}>
                    All of them as CSV
                  </Button>
                )}
              </div>
            )}
            {!r.ended_at && (
              <p className="soft small">
                Changed, it ends and another begins: what was done stays with the rule that did it. Ending it takes
                nothing back.
              </p>
            )}
            <Failure error={end.error} />
            {people.length > 0 && (
              <DataTable
                name="Whom it acted upon"
                rows={people}
                id={(_, i) => i}
                dense
                columns={(col) => [
                  col.shown(
                    "Who",
                    (p) => p.address,
                    (p) => <Link to={`/contacts/${p.contact}`}>{p.address || "somebody who is gone"}</Link>,
                  ),
                  col.text("Because of", (p) => p.cause),
                  col.when("Happened", (p) => p.at),
                  col.shown(
                    "Acted upon",
                    (p) => p.done_at,
                    (p) => (
                      <>
                        {instant(p.done_at)}
                        {p.taken_back_at ? `, taken back ${instant(p.taken_back_at)}` : ""}
                      </>
                    ),
                  ),
                ]}
              />
            )}
            {r.done > people.length && (
              <p className="soft small">
                The newest {count(people.length)} of {count(r.done)} are shown; the CSV has all.
              </p>
            )}
          </>
        )}
      </Loaded>
    </Frame>
  );
}
