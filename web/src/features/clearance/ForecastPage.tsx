import { Button, Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { scaleBand, scaleLinear } from "d3-scale";
import { Link, useSearchParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { count, instant, plural } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { useClearanceSlips } from "./useClearanceSlips";
import { MomentPick } from "../../shared/Moment";

type Forecast = Schemas["Forecast"];
const weekday = new Intl.DateTimeFormat("en-GB", { weekday: "narrow", timeZone: "UTC" });
const monthDay = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", timeZone: "UTC" });

/** Four weeks: what goes each day, what is held over, what never goes. */
function Calendar({ f }: { f: Forecast }) {
  const days = f.days.slice(0, 28);
  const x = scaleBand(
    days.map((d) => String(d.begins)),
    [52, 736],
  ).padding(0.22);
  const up = Math.max(1, ...days.map((d) => d.goes));
  const down = Math.max(1, ...days.map((d) => d.held + d.skipped));
  const above = scaleLinear([0, up], [110, 12]);
  const below = scaleLinear([0, Math.max(up, down)], [0, 98]);
  const floor = 128 + below(down);
  return (
    <svg
      viewBox={`0 0 740 ${floor + 30}`}
      width="740"
      style={{ maxWidth: "100%", display: "block" }}
      role="img"
      aria-label={days
        .filter((d) => d.goes + d.held + d.skipped > 0)
        .map((d) => `${monthDay.format(d.begins)}: ${d.goes} go, ${d.held} held, ${d.skipped} skipped`)
        .join("; ")}
    >
      <text x={46} y={20} fontSize={12} textAnchor="end" className="soft">
        {count(up)}
      </text>
      {days.map((d, i) => {
        const left = x(String(d.begins))!;
        const [held, skipped] = [below(d.held), below(d.skipped)];
        return (
          <g key={d.begins}>
            <rect x={left} width={x.bandwidth()} y={above(d.goes)} height={110 - above(d.goes)} fill="var(--deep)" />
            <rect x={left} width={x.bandwidth()} y={112} height={held} fill="var(--ochre)" />
            <rect x={left} width={x.bandwidth()} y={112 + held} height={skipped} fill="var(--brick)" />
            <text x={left + x.bandwidth() / 2} y={floor} fontSize={12} textAnchor="middle" className="soft">
              {weekday.format(d.begins)}
            </text>
            {i % 7 === 0 && (
              <text x={left} y={floor + 17} fontSize={12}>
                {monthDay.format(d.begins)}
              </text>
            )}
          </g>
        );
      })}
      <line x1={52} x2={736} y1={111} y2={111} stroke="var(--ink)" strokeWidth={1.2} />
      <text x={0} y={100} fontSize={12} style={{ fill: "var(--deep)" }}>
        go
      </text>
      <text x={0} y={122} fontSize={12} style={{ fill: "var(--ochre)" }}>
        held
      </text>
      <text x={0} y={136} fontSize={12} style={{ fill: "var(--brick)" }}>
        lost
      </text>
    </svg>
  );
}

const sums = (f: Forecast) =>
  f.mailings.reduce(
    (s, m) => ({ gets: s.gets + m.at_once + m.later, later: s.later + m.later, lost: s.lost + m.lost_to_caps }),
    { gets: 0, later: 0, lost: 0 },
  );

/** "… 12 more", "… 3 fewer". */
function Change({ before, after }: { before: number; after: number }) {
  if (before === after) return null;
  return <span className="soft"> ({after > before ? `+${count(after - before)}` : `−${count(before - after)}`})</span>;
}

/** The coming four weeks, and what moving a mailing would change. */
export function ForecastPage() {
  const { slips } = useClearanceSlips();
  const [search, setSearch] = useSearchParams();
  const [moved, at] = [search.get("mailing"), search.get("at")];
  const query = moved && at ? { mailing: Number(moved), at: Number(at) } : null;
  const planned = useQuery(queries.forecast);
  const asked = useQuery({
    queryKey: ["forecast", query],
    queryFn: () => ok(api.GET("/api/forecast", { params: { query: query ?? {} } })),
    placeholderData: keepPreviousData,
    enabled: query !== null,
  });
  const mailings = useQuery(queries.mailings);
  const ofSeries = new Set((mailings.data ?? []).filter((m) => m.series_id != null).map((m) => m.id));
  const drafts = (mailings.data ?? []).filter((m) => m.state === "draft" && m.series_id == null);
  const save = useMutation({
    mutationFn: () =>
      ok(
        api.POST("/api/mailings/{id}/move", {
          params: { path: { id: query!.mailing } },
          body: { at: query!.at },
        }),
      ),
    onSuccess: async () => {
      setSearch({}, { replace: true });
    },
  });
  const move = (mailing: number, at: number | null) =>
    at !== null && setSearch({ mailing: String(mailing), at: String(at) }, { replace: true });
  return (
    <Frame slips={slips}>
      <Loaded query={planned}>
        {(before) => {
          const f = query && asked.data ? asked.data : before;
          const [s, was] = [sums(f), sums(before)];
          const name = (id: number) => f.mailings.find((m) => m.id === id)?.name ?? "";
          const isDraft = query !== null && drafts.some((d) => d.id === query.mailing);
          return (
            <>
              <div className="crumb">
                <span>
                  {instant(f.from)} to {instant(f.until)} UTC
                </span>
                {query && (
                  <span>
                    as if {name(query.mailing)} went {instant(query.at)}; nothing is saved
                  </span>
                )}
              </div>
              <h1>The coming four weeks</h1>
              <p className="finding">
                {f.mailings.length === 0 ? (
                  "No mailing is planned."
                ) : (
                  <>
                    <em>{count(s.gets)}</em> messages go{query && <Change before={was.gets} after={s.gets} />},{" "}
                    {count(s.later)} of them later than planned{query && <Change before={was.later} after={s.later} />};{" "}
                    {s.lost > 0 ? <em className="bad">{count(s.lost)}</em> : "none"} {s.lost === 1 ? "is" : "are"} lost
                    to caps{query && <Change before={was.lost} after={s.lost} />}.
                  </>
                )}
              </p>
              {!f.cap_in_force && (
                <p className="filters bad">No cap is in force: nothing holds anybody back for others.</p>
              )}
              {f.mailings.length > 0 && <Calendar f={f} />}
              {(f.mailings.length > 0 || drafts.length > 0) && (
                <Table>
                  <TableHead>
                    <TableRow>
                      <TableCell>Mailing</TableCell>
                      <TableCell>Goes (UTC); change it to see</TableCell>
                      <TableCell className="num">At once</TableCell>
                      <TableCell className="num">Later</TableCell>
                      <TableCell className="num">Lost to caps</TableCell>
                      <TableCell className="num">Barred</TableCell>
                      <TableCell>Last release</TableCell>
                    </TableRow>
                  </TableHead>
                  <TableBody>
                    {f.mailings.map((m) => (
                      <TableRow key={`${m.id} ${m.series}`}>
                        <TableCell>
                          <Link to={ofSeries.has(m.id) ? `/mailings/${m.id}` : `/clearance/${m.id}`}>{m.name}</Link>
                        </TableCell>
                        <TableCell>
                          {m.series ? (
                            <span className="soft">a series, as people come to it</span>
                          ) : m.started ? (
                            "under way"
                          ) : (
                            <MomentPick
                              inline
                              label={`When ${m.name} goes`}
                              value={m.at}
                              onChange={(t) => move(m.id, t)}
                            />
                          )}
                        </TableCell>
                        <TableCell className="num">{count(m.at_once)}</TableCell>
                        <TableCell className="num wait">{m.later > 0 ? count(m.later) : ""}</TableCell>
                        <TableCell className="num bad">{m.lost_to_caps > 0 ? count(m.lost_to_caps) : ""}</TableCell>
                        <TableCell className="num">{count(m.barred)}</TableCell>
                        <TableCell>{m.last_release ? instant(m.last_release) : ""}</TableCell>
                      </TableRow>
                    ))}
                    {drafts
                      .filter((d) => d.id !== query?.mailing)
                      .map((d) => (
                        <TableRow key={d.id}>
                          <TableCell className="soft">{d.name} (draft)</TableCell>
                          <TableCell>
                            <MomentPick
                              inline
                              label={`As if ${d.name} went`}
                              value={null}
                              onChange={(t) => move(d.id, t)}
                            />
                          </TableCell>
                          <TableCell colSpan={5} className="soft">
                            not planned: give an instant to try it
                          </TableCell>
                        </TableRow>
                      ))}
                  </TableBody>
                </Table>
              )}
              {f.competing.length > 0 && (
                <>
                  <h2>Mailings that compete for the same people</h2>
                  <ul>
                    {f.competing.map((p) => (
                      <li key={`${p.first} ${p.second}`}>
                        {plural(p.people, "person has", "people have")} to wait for {name(p.second)}, or lose it, for{" "}
                        {name(p.first)}.
                      </li>
                    ))}
                  </ul>
                </>
              )}
              <Failure error={save.error ?? asked.error} />
              {query && (
                <div className="acts">
                  {!isDraft && (
                    <Button variant="contained" disabled={save.isPending} onClick={() => save.mutate()}>
                      Move {name(query.mailing)} to {instant(query.at)}
                    </Button>
                  )}
                  <Button variant="outlined" onClick={() => setSearch({}, { replace: true })}>
                    As planned
                  </Button>
                </div>
              )}
              <p className="soft small">
                Each person is played through alone, as the engine will do it: a message that goes counts for the next,
                a held one goes at the first instant that every cap and the hours allow. Who withdraws or bounces
                meanwhile isn't foreseen.
                {f.mailings.some((m) => m.series) &&
                  " Of series, those inside now are played through as if nothing more happened; who will enter isn't known."}
              </p>
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
