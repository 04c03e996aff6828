import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok } from "../../api/client";
import { queries } from "../../api/queries";
import { NumberBox } from "../../shared/NumberBox";
import { Pick } from "../../shared/Pick";
import { DataTable } from "../../shared/table/DataTable";
import { Failure } from "../../shared/states";

/** Points by hand, with their reason: for what no reaction can see. */
function GivePoints({ id }: { id: number }) {
  const all = useQuery(queries.scores).data ?? [];
  const [chosen, setChosen] = useState<number | null>(null);
  const [points, setPoints] = useState(1);
  const [why, setWhy] = useState("");
  const score = chosen ?? all[0]?.id;
  const give = useMutation({
    mutationFn: () =>
      ok(
        api.POST("/api/scores/{id}/points", {
          params: { path: { id: score! } },
          body: { contact: id, points, why },
        }),
      ),
    onSuccess: () => {
      setWhy("");
    },
  });
  if (score === undefined) return null;
  return (
    <>
      <div className="acts">
        Give <NumberBox label="Points" value={points} min={-1000} max={1000} onChange={setPoints} /> points of{" "}
        <Pick label="Score" value={score} options={all.map((s) => [s.id, s.name] as const)} onChange={setChosen} />{" "}
        because{" "}
        <input
          className="bare"
          aria-label="Why they get points"
          value={why}
          maxLength={200}
          onChange={(e) => setWhy(e.target.value)}
        />
        <button
          className="plain"
          disabled={!why.trim() || points === 0 || give.isPending}
          onClick={() => give.mutate()}
        >
          Give them
        </button>
      </div>
      <Failure error={give.error} />
    </>
  );
}

/** A person's scores, with the entries they add up from. */
export function OwnScores({ id }: { id: number }) {
  const scores = useQuery({
    queryKey: ["scores-of", id],
    queryFn: () => ok(api.GET("/api/contacts/{id}/scores", { params: { path: { id } } })),
  });
  const shown = (scores.data ?? []).map((s) => (
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
      <DataTable
        name="Entries of the score"
        plain
        rows={s.entries}
        id={(_, i) => i}
        dense
        columns={(col) => [
          col.when("When", (e) => e.at),
          col.shown(
            "Points",
            (e) => e.points,
            (e) => (
              <>
                {e.points > 0 ? "+" : "−"}
                {Math.abs(e.points)}
              </>
            ),
            { num: true },
          ),
          col.text("Cause", (e) => e.why),
        ]}
      />
    </section>
  ));
  return (
    <>
      {shown}
      <GivePoints id={id} />
    </>
  );
}
