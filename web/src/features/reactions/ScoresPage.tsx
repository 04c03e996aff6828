import { Button, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { count, plural } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Failure, Loaded } from "../../shared/states";
import { useMailingSlips } from "../mailings/useMailingSlips";
import { TriedView } from "./TriedView";

function Score({ s }: { s: Schemas["OwnScore"] }) {
  const [half, setHalf] = useState(s.half_life_days == null ? "" : String(s.half_life_days));
  const leaders = useQuery({
    queryKey: ["leaders", s.id],
    queryFn: () => ok(api.GET("/api/scores/{id}/leaders", { params: { path: { id: s.id } } })),
  });
  const attempt = useMutation({
    mutationFn: () => ok(api.POST("/api/scores/{id}/try", { params: { path: { id: s.id } }, body: { draft: null } })),
  });
  const save = useMutation({
    mutationFn: () =>
      ok(
        api.POST("/api/scores", {
          body: { id: s.id, name: s.name, half_life_days: half.trim() ? Number(half) : null },
        }),
      ),
  });
  const remove = useMutation({
    mutationFn: () => ok(api.DELETE("/api/scores/{id}", { params: { path: { id: s.id } } })),
  });
  const top = leaders.data ?? [];
  return (
    <section>
      <h2>{s.name}</h2>
      <p className="soft" style={{ marginTop: 0 }}>
        {plural(s.people, "person has", "people have")} an entry;{" "}
        {s.half_life_days == null ? "it doesn’t fade" : `half of it is left after ${s.half_life_days} days`}.
        {s.behind && " Everybody’s is being worked out by that: until it is theirs, the earlier half-life holds."}
      </p>
      <div className="acts">
        <TextField
          label={`Half-life of ${s.name}, days`}
          value={half}
          sx={{ width: 220 }}
          onChange={(e) => setHalf(e.target.value)}
          slotProps={{ htmlInput: { inputMode: "decimal" } }}
        />
        <Button variant="outlined" disabled={save.isPending} onClick={() => save.mutate()}>
          Keep the half-life
        </Button>
        <Button variant="outlined" disabled={attempt.isPending} onClick={() => attempt.mutate()}>
          Try it on the past year
        </Button>
        <button className="plain bad" onClick={() => remove.mutate()}>
          Delete<span className="away"> {s.name}</span>
        </button>
      </div>
      <Failure error={save.error ?? attempt.error ?? remove.error} />
      {attempt.data && <TriedView tried={attempt.data} />}
      {top.length > 0 && (
        <>
          <h3>Highest now</h3>
          <DataTable
            name="Highest scores"
            plain
            rows={top.slice(0, 10)}
            id={(l) => l.contact}
            dense
            columns={(col) => [
              col.shown(
                "Who",
                (l) => l.address,
                (l) => <Link to={`/contacts/${l.contact}`}>{l.address}</Link>,
              ),
              col.text("Score", (l) => l.score.toFixed(1), { num: true }),
            ]}
          />
          <p className="soft small">
            Everybody above a score is a segment: <Link to="/contacts/segments/new">make one</Link>.
          </p>
        </>
      )}
    </section>
  );
}

/** Scores: points with causes, which may fade. */
export function ScoresPage() {
  const { slips } = useMailingSlips();
  const scores = useQuery(queries.scores);
  const [name, setName] = useState("");
  const [half, setHalf] = useState("90");
  const make = useMutation({
    mutationFn: () =>
      ok(api.POST("/api/scores", { body: { id: null, name, half_life_days: half.trim() ? Number(half) : null } })),
    onSuccess: () => {
      setName("");
    },
  });
  return (
    <Frame slips={slips}>
      <Loaded query={scores}>
        {(all) => (
          <>
            <div className="crumb">
              <Link to="/mailings/reactions">Reactions</Link>
            </div>
            <h1>Scores</h1>
            <p className="finding">
              {all.length ? (
                <>
                  <em>{plural(all.length, "score")}</em>, {count(all.reduce((n, s) => n + s.people, 0))} people with an
                  entry.
                </>
              ) : (
                "There is no score yet."
              )}
            </p>
            <p className="soft" style={{ maxWidth: "50em" }}>
              A score is the sum of its entries. With a half-life each entry fades, so that what somebody did lately
              counts more. Reactions make the entries; a person’s page shows them with their causes.
            </p>
            {all.map((s) => (
              <Score key={`${s.id} ${s.half_life_days}`} s={s} />
            ))}
            <h2>A new score</h2>
            <div className="fields" style={{ maxWidth: 720 }}>
              <div className="two">
                <TextField label="Name" value={name} onChange={(e) => setName(e.target.value)} />
                <TextField
                  label="Half-life, days"
                  value={half}
                  helperText="Empty: it doesn’t fade"
                  onChange={(e) => setHalf(e.target.value)}
                  slotProps={{ htmlInput: { inputMode: "decimal" } }}
                />
              </div>
            </div>
            <Failure error={make.error} />
            <div className="acts">
              <Button variant="outlined" disabled={!name.trim() || make.isPending} onClick={() => make.mutate()}>
                Make the score
              </Button>
            </div>
          </>
        )}
      </Loaded>
    </Frame>
  );
}
