import { Button } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, instant, plural } from "../../shared/format";
import { OwnLabels } from "../../shared/Labels";
import { Failure, Loaded } from "../../shared/states";
import { Lines } from "./Lines";
import { type Outline, OutlineEditor } from "./OutlineEditor";
import { PutIn } from "./PutIn";
import { useSeriesSlips } from "./useSeriesSlips";

type View = Schemas["SeriesView"];

/** Who enters, how often, and what takes people out. */
function Terms({ v }: { v: View }) {
  const o = v.outline;
  return (
    <dl className="facts">
      <dt>Who enters</dt>
      <dd>
        {v.entry_words}, {v.again_words}
      </dd>
      {(o.from != null || o.until != null) && (
        <>
          <dt>Open</dt>
          <dd>
            {o.from != null && `from ${instant(o.from)} UTC `}
            {o.until != null && `until ${instant(o.until)} UTC`}
          </dd>
        </>
      )}
      <dt>Out before the end</dt>
      <dd>{v.exit_words.length ? v.exit_words.join("; ") : "only who leaves the series, or whom no mail reaches"}</dd>
    </dl>
  );
}

/** Changing the outline; of a running series, what that does to those inside is said first. */
function Change({ v, done }: { v: View; done: () => void }) {
  const [name, setName] = useState(v.name);
  const [outline, setOutline] = useState<Outline>(v.outline);
  const [next, setNext] = useState(v.next_step);
  const running = v.state === "running";
  const effects = useMutation({
    mutationFn: () => ok(api.POST("/api/series/{id}/effects", { params: { path: { id: v.id } }, body: outline })),
  });
  const save = useMutation({
    mutationFn: () =>
      ok(
        api.PUT("/api/series/{id}", {
          params: { path: { id: v.id } },
          body: { name, letterhead_id: v.letterhead_id, outline },
        }),
      ),
    onSuccess: async () => {
      done();
    },
  });
  const number = () => {
    setNext(next + 1);
    return next;
  };
  return (
    <section aria-label="Change the outline">
      <p>
        <label>
          Name{" "}
          <input
            className="bare"
            aria-label="Name of the series"
            style={{ width: 280 }}
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </label>
      </p>
      <OutlineEditor
        outline={outline}
        common={{ series: v.id, letterhead: v.letterhead_id, number }}
        onChange={(o) => {
          setOutline(o);
          effects.reset();
        }}
      />
      {effects.data && (
        <div className="note">
          <b>{effects.data.words}</b>
          {effects.data.moves.length === 0 ? (
            <p>Everybody inside stays where they are.</p>
          ) : (
            effects.data.moves.map((m, i) => (
              <p key={i}>
                {plural(m.people, "person", "people")} at “{m.from}” {m.to ? `go on to “${m.to}”` : "are through"}; what
                waits for them there isn’t sent.
              </p>
            ))
          )}
        </div>
      )}
      <Failure error={effects.error ?? save.error} />
      <div className="acts">
        {running && !effects.data ? (
          <Button variant="contained" disabled={effects.isPending} onClick={() => effects.mutate()}>
            What it does to those inside
          </Button>
        ) : (
          <Button variant="contained" disabled={save.isPending} onClick={() => save.mutate()}>
            {running ? "Put it in force" : "Save the outline"}
          </Button>
        )}
        <button className="plain" onClick={done}>
          Never mind
        </button>
      </div>
    </section>
  );
}

/** Start, pause, end. */
function Acts({ v, change }: { v: View; change: () => void }) {
  const navigate = useNavigate();
  const [ending, setEnding] = useState(false);
  const path = { params: { path: { id: v.id } } };
  const start = useMutation({ mutationFn: () => ok(api.POST("/api/series/{id}/start", path)) });
  const pause = useMutation({
    mutationFn: (on: boolean) => ok(api.POST("/api/series/{id}/pause", { ...path, body: { pause: on } })),
  });
  const end = useMutation({
    mutationFn: () => ok(api.DELETE("/api/series/{id}", path)),
    onSuccess: async () => {
      if (v.state === "draft") void navigate("/series");
      setEnding(false);
    },
  });
  if (v.state === "ended") return null;
  const draft = v.state === "draft";
  return (
    <>
      <div className="acts">
        {draft && (
          <Button variant="contained" disabled={start.isPending} onClick={() => start.mutate()}>
            Start the series
          </Button>
        )}
        <Button variant="outlined" onClick={change}>
          Change the outline
        </Button>
        {!draft && (
          <Button variant="outlined" disabled={pause.isPending} onClick={() => pause.mutate(v.paused_at == null)}>
            {v.paused_at == null ? "Pause" : "Resume"}
          </Button>
        )}
        <button className="plain" onClick={() => (draft ? end.mutate() : setEnding(true))}>
          {draft ? "Delete the draft" : "End it"}
        </button>
      </div>
      {ending && (
        <p className="note">
          {plural(v.inside, "person is", "people are")} inside: they are taken out, and what waits for them isn’t sent.
          This can’t be taken back.{" "}
          <button className="plain" disabled={end.isPending} onClick={() => end.mutate()}>
            End it now
          </button>{" "}
          <button className="plain" onClick={() => setEnding(false)}>
            Never mind
          </button>
        </p>
      )}
      <Failure error={start.error ?? pause.error ?? end.error} />
    </>
  );
}

function Sheet({ v }: { v: View }) {
  const [changing, setChanging] = useState(false);
  return (
    <>
      <div className="crumb">
        <Link to="/series">Series</Link>
        <span>{v.paused_at != null ? "paused" : v.state}</span>
        {v.started_at != null && <span>since {instant(v.started_at)} UTC</span>}
      </div>
      <h1>{v.name}</h1>
      <OwnLabels on="series" id={v.id} />
      <p className="finding">
        {v.sentence.split(": ").map((part, i) => (i === 0 ? <em key={i}>{part}</em> : `: ${part}`))}
      </p>
      {changing ? (
        <Change v={v} done={() => setChanging(false)} />
      ) : (
        <>
          <Terms v={v} />
          <Acts v={v} change={() => setChanging(true)} />
          <Lines v={v} />
          {v.state === "running" && <PutIn id={v.id} />}
          {v.left > 0 && (
            <p className="soft">
              {plural(v.left, "person has", "people have")} left this series by their own choice: nobody lets them in
              again but themselves.
            </p>
          )}
          {v.entered > 0 && (
            <p>
              <Link to={`/series/${v.id}/people`}>All {count(v.entered)} entries</Link>
            </p>
          )}
        </>
      )}
    </>
  );
}

/** A series: its outline, top to bottom, with what happens at each step. */
export function SeriesPage() {
  const id = Number(useParams().id);
  const { slips } = useSeriesSlips();
  const view = useQuery({
    queryKey: ["one-series", id],
    queryFn: () => ok(api.GET("/api/series/{id}", { params: { path: { id } } })),
  });
  return (
    <Frame slips={slips}>
      <Loaded query={view}>{(v) => <Sheet key={v.id} v={v} />}</Loaded>
    </Frame>
  );
}
