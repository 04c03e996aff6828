import { Button } from "@mui/material";
import { useInfiniteQuery, useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { bare, count, date, plural, points } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { More } from "../../shared/table/More";
import { DAY } from "../../shared/time";
import { withInterval } from "./run";
import { useUpkeepSlips } from "./useUpkeepSlips";

type View = Schemas["SilentView"];
type Stage = Schemas["SilenceStage"];

const STAGES: { stage: Stage; title: string; says: string }[] = [
  { stage: "to_ask", title: "to be asked", says: "no letter has asked them yet" },
  { stage: "being_asked", title: "being asked", says: "letters on their way, or time to answer" },
  { stage: "let_pass", title: "let it pass", says: "the next cleaning run is about them" },
  { stage: "left_alone", title: "kept back", says: "drawn to measure, or left alone by a person" },
];

const of = (v: View, stage: Stage) => v.stages.find((s) => s.stage === stage)!;

function Finding({ v }: { v: View }) {
  if (v.day == null) return <>It has not been worked out yet: that is done once a day.</>;
  if (v.window_days == null)
    return <>Nobody is called silent: the recency guide suggests no window here, and the policy sets none.</>;
  const all = v.stages.reduce((n, s) => n + s.people, 0);
  if (all === 0) return <>Nobody has been silent for {v.window_days} days.</>;
  const passed = of(v, "let_pass").people;
  return (
    <>
      <em>
        {plural(all, "person has", "people have")} answered nothing for {v.window_days} days
      </em>{" "}
      or more, of {count(v.mailable)} who can be mailed; {passed === 0 ? "nobody of them" : count(passed)} let it pass
      when asked.
    </>
  );
}

/** How far it is with silent people, as steps from left to right. */
function Steps({ v, stage }: { v: View; stage: Stage | null }) {
  return (
    <div className="steps" role="group" aria-label="Silent people by stage">
      {STAGES.map((s) => {
        const at = of(v, s.stage);
        return (
          <div key={s.stage} className={stage === s.stage ? "on" : undefined}>
            <Link to={stage === s.stage ? "/upkeep/silent" : `/upkeep/silent?stage=${s.stage}`} className="figure">
              {count(at.people)}
            </Link>
            <div>
              <b>{s.title}</b>
            </div>
            <div className="soft small">{s.says}</div>
            {at.blind > 0 && <div className="soft small">{count(at.blind)} of them open-blind</div>}
          </div>
        );
      })}
      <div>
        <Link to="/upkeep/runs" className="figure">
          {count(v.sunset)}
        </Link>
        <div>
          <b>sunset</b>
        </div>
        <div className="soft small">no marketing, until they answer or sign up</div>
      </div>
    </div>
  );
}

/** What letting people go costs, by those kept back. */
function Readout({ v }: { v: View }) {
  const { readout: r, numbers } = v;
  const next = v.next_read_at != null && (
    <>
      {" "}
      {plural(v.kept_back, "person is", "people are")} kept back now; the next are read on {date(v.next_read_at)}.
    </>
  );
  if (r.answered.of === 0)
    return (
      <p className="soft" style={{ maxWidth: "62em" }}>
        {numbers.kept_back_percent}% of those who let it pass, drawn by hash, keep getting mail for{" "}
        {numbers.kept_back_days} days: what they do then says what letting the others go costs.{next || " Nobody yet."}
      </p>
    );
  return (
    <>
      <p style={{ maxWidth: "62em" }}>
        Of {count(r.answered.of)} kept back, {count(r.answered.count)} answered within {r.days} days:{" "}
        <b>
          {bare(r.answered.lower)} to {bare(r.answered.upper)}%
        </b>
        {r.missed && (
          <>
            . So many of the {count(r.sunset_bought.of)} let go at the same time would have answered:{" "}
            {count(r.missed.least)} to {count(r.missed.most)}
          </>
        )}
        .{next}
      </p>
      <DataTable
        name="Kept back against let go"
        rows={[
          { what: "Answered or bought", kept: r.answered, gone: null },
          { what: "Bought", kept: r.bought, gone: r.sunset_bought },
          { what: "Complained", kept: r.complained, gone: null },
        ]}
        id={(x) => x.what}
        plain
        dense
        columns={(col) => [
          col.text(`Within ${r.days} days`, (x) => x.what),
          col.text("Kept back", (x) => `${withInterval(x.kept)}, ${count(x.kept.count)} of ${count(x.kept.of)}`),
          col.text("Let go", (x) =>
            x.gone && x.gone.of > 0
              ? `${withInterval(x.gone)}, ${count(x.gone.count)} of ${count(x.gone.of)}`
              : "no mail to answer",
          ),
        ]}
      />
      {r.bought_more && (
        <p className="soft">
          Of those kept back {points(r.bought_more.estimate)} points more bought, with a 95% interval of{" "}
          {points(r.bought_more.lower)} to {points(r.bought_more.upper)}.
        </p>
      )}
    </>
  );
}

/** The series that asks: chosen, or made. */
function Asking({ v }: { v: View }) {
  const series = useQuery(queries.series);
  const letterheads = useQuery(queries.letterheads);
  const [letterhead, setLetterhead] = useState<number | null>(null);
  const go = useNavigate();
  const asks = useMutation({
    mutationFn: (body: Schemas["Asks"]) => ok(api.POST("/api/upkeep/silent/series", { body })),
    onSuccess: (r, body) => {
      if (body.series == null) void go(`/series/${r.series}`);
    },
  });
  const others = (series.data ?? []).filter((s) => s.state !== "ended" && s.id !== v.series?.id);
  return (
    <>
      <h2>The series that asks</h2>
      {v.series ? (
        <p>
          <Link to={`/series/${v.series.id}`}>{v.series.name}</Link>, {v.series.state}.{" "}
          {v.series.came_back.of > 0 ? (
            <>
              Of {count(v.series.came_back.of)} people who got one of its letters, {count(v.series.came_back.count)}{" "}
              pressed its button, replied or bought: {withInterval(v.series.came_back)}.
            </>
          ) : (
            "Nobody has got one of its letters yet."
          )}
        </p>
      ) : (
        <p className="soft" style={{ maxWidth: "62em" }}>
          Before anybody is let go a letter asks, with one button, whether to go on. Pressing it is an answer, and new
          evidence of consent. Only who got the letters and let them pass is proposed to be sunset.
        </p>
      )}
      <div style={{ display: "flex", gap: 10, alignItems: "center", margin: "10px 0" }}>
        {!v.series && (
          <>
            <select
              className="bare"
              aria-label="Letterhead of the series"
              value={letterhead ?? letterheads.data?.[0]?.id ?? ""}
              onChange={(e) => setLetterhead(Number(e.target.value))}
            >
              {(letterheads.data ?? []).map((l) => (
                <option key={l.id} value={l.id}>
                  {l.name}
                </option>
              ))}
            </select>
            <Button
              variant="contained"
              disabled={asks.isPending || !letterheads.data?.length}
              onClick={() => asks.mutate({ letterhead: letterhead ?? letterheads.data![0]!.id })}
            >
              Make the series that asks
            </Button>
          </>
        )}
        {others.length > 0 && (
          <select
            className="bare"
            aria-label="Take another series"
            value=""
            onChange={(e) => asks.mutate({ series: Number(e.target.value) })}
          >
            <option value="" disabled>
              {v.series ? "take another series" : "or take a series of yours"}
            </option>
            {others.map((s) => (
              <option key={s.id} value={s.id}>
                {s.name}
              </option>
            ))}
          </select>
        )}
      </div>
      <Failure error={asks.error} />
    </>
  );
}

function People({ v, stage }: { v: View; stage: Stage | null }) {
  const query: { stage?: Stage } = stage ? { stage } : {};
  const pages = useInfiniteQuery({
    queryKey: ["silent", "people", stage],
    queryFn: ({ pageParam }) =>
      ok(
        api.GET("/api/upkeep/silent/people", {
          params: { query: { ...query, ...(pageParam && { after: pageParam }) } },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
  });
  const all = v.stages.filter((s) => !stage || s.stage === stage).reduce((n, s) => n + s.people, 0);
  const title = STAGES.find((s) => s.stage === stage)?.title;
  return (
    <>
      <h2>People{title && `: ${title}`}</h2>
      {stage && (
        <div className="filters">
          Only: {title} <Link to="/upkeep/silent">show all</Link>
        </div>
      )}
      <Loaded query={pages}>
        {(d) => {
          const rows = d.pages.flatMap((p) => p.rows);
          if (rows.length === 0) return <p className="soft">Nobody.</p>;
          return (
            <>
              <DataTable
                name="Silent people"
                rows={rows}
                of={all}
                id={(r) => r.contact_id}
                dense
                columns={(col) => [
                  col.shown(
                    "Address",
                    (r) => r.address,
                    (r) => <Link to={`/contacts/${r.contact_id}`}>{r.address}</Link>,
                  ),
                  col.text("Stage", (r) => STAGES.find((s) => s.stage === r.stage)!.title),
                  col.text("Last answer", (r) => (r.answered_at == null ? "never" : date(r.answered_at))),
                  col.text("Last asked", (r) => (r.asked_at == null ? "–" : date(r.asked_at))),
                  col.text("Opens", (r) => (r.open_blind ? "can’t be told" : "can be told")),
                  col.number("Messages in 28 days", (r) => Math.round(r.per_28_days * 10) / 10),
                ]}
              />
              <More
                pages={pages}
                csv={`/api/upkeep/silent/people.csv${stage ? `?stage=${stage}` : ""}`}
                all={`All ${count(all)} as CSV`}
              />
            </>
          );
        }}
      </Loaded>
    </>
  );
}

/** People who answer nothing: asked, let go, and kept back to know what that costs. */
export function SilentPage() {
  const slips = useUpkeepSlips();
  const view = useQuery(queries.silent);
  const [params] = useSearchParams();
  const stage = params.get("stage") as Stage | null;
  return (
    <Frame slips={slips}>
      <Loaded query={view}>
        {(v) => (
          <>
            <div className="crumb">
              <span>Upkeep</span>
              {v.day != null && <span>as of {date(v.day * DAY)}</span>}
            </div>
            <h1>Silent people</h1>
            <p className="finding">
              <Finding v={v} />
            </p>
            <p className="soft" style={{ maxWidth: "62em" }}>
              {v.window_days != null && (
                <>
                  {v.by_hand ? (
                    <>
                      The <Link to="/upkeep/policy">policy</Link> sets {v.window_days} days.
                    </>
                  ) : (
                    <>
                      By the <Link to="/contacts/recency">recency guide</Link> mail pays as far back as {v.guide_days}{" "}
                      days; nobody is called silent before 90.
                    </>
                  )}{" "}
                  Whose opens can’t be told is judged by clicks, replies, purchases and forms, over twice the time.
                </>
              )}
            </p>
            <Steps v={v} stage={stage} />
            <Readout v={v} />
            <Asking v={v} />
            <People v={v} stage={stage} />
          </>
        )}
      </Loaded>
    </Frame>
  );
}
