import { Button, Table, TableBody, TableCell, TableRow, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { scaleBand, scaleLinear } from "d3-scale";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { AsOf } from "../../shared/AsOf";
import { bare, count, instant, percent, plural, words } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Failure, Loaded } from "../../shared/states";
import { Faring, Seals } from "./Proof";
import { useClearanceSlips } from "./useClearanceSlips";

type View = Schemas["ConsentView"];
type State = Schemas["InState"]["state"];
/** From the ground up, each with its tone; people without any permission are the paper itself. */
const STACK: { state: State; fill: string; opacity: number }[] = [
  { state: "confirmed", fill: "var(--deep)", opacity: 1 },
  { state: "consented", fill: "var(--deep)", opacity: 0.55 },
  { state: "paused", fill: "var(--ochre)", opacity: 1 },
  { state: "invited", fill: "var(--ochre)", opacity: 0.55 },
  { state: "withdrawn", fill: "var(--brick)", opacity: 0.55 },
  { state: "complained", fill: "var(--brick)", opacity: 1 },
];

/** The states at the end of each month, one upon the other. */
function Months({ months }: { months: View["months"] }) {
  const of = (m: View["months"][number], state: State) => m.states.find((s) => s.state === state)?.people ?? 0;
  const most = Math.max(1, ...months.map((m) => STACK.reduce((n, s) => n + of(m, s.state), 0)));
  const x = scaleBand(
    months.map((m) => m.month),
    [56, 600],
  ).padding(0.25);
  const y = scaleLinear([0, most], [180, 14]);
  const stacked = (m: View["months"][number]) =>
    STACK.map((s, i) => {
      const below = STACK.slice(0, i).reduce((sum, earlier) => sum + of(m, earlier.state), 0);
      return { ...s, from: below, people: of(m, s.state) };
    });
  const last = months.at(-1);
  return (
    <svg
      viewBox="0 0 740 212"
      width="740"
      style={{ maxWidth: "100%", display: "block" }}
      role="img"
      aria-label={months
        .map((m) => `${m.month}: ${STACK.map((s) => `${of(m, s.state)} ${s.state}`).join(", ")}`)
        .join("; ")}
    >
      <text x={50} y={20} fontSize={12} textAnchor="end" className="soft">
        {count(most)}
      </text>
      {months.map((m) => (
        <g key={m.month}>
          {stacked(m).map((s) => (
            <rect
              key={s.state}
              x={x(m.month)}
              width={x.bandwidth()}
              y={y(s.from + s.people)}
              height={Math.max(0, y(s.from) - y(s.from + s.people))}
              style={{ fill: s.fill, opacity: s.opacity }}
            />
          ))}
          <text x={x(m.month)! + x.bandwidth() / 2} y={198} fontSize={12} textAnchor="middle">
            {m.month.slice(2)}
          </text>
        </g>
      ))}
      <line x1={56} x2={600} y1={180.5} y2={180.5} stroke="var(--ink)" strokeWidth={1.2} />
      {last &&
        stacked(last)
          .filter((s) => s.people > 0)
          .map((s, i) => (
            <g key={s.state}>
              <rect x={612} y={172 - i * 22} width={12} height={12} style={{ fill: s.fill, opacity: s.opacity }} />
              <text x={630} y={182 - i * 22} fontSize={13}>
                {s.state} {count(s.people)}
              </text>
            </g>
          ))}
    </svg>
  );
}

/** What people can leave without leaving the rest. */
function Topics() {
  const topics = useQuery(queries.topics);
  const [name, setName] = useState("");
  const make = useMutation({
    mutationFn: () => ok(api.POST("/api/topics", { body: { name } })),
    onSuccess: () => {
      setName("");
    },
  });
  return (
    <>
      <h2>Topics</h2>
      <p className="soft" style={{ marginTop: 0 }}>
        What people can leave without leaving the rest.
      </p>
      {(topics.data ?? []).length > 0 && (
        <Table sx={{ maxWidth: 420 }}>
          <TableBody>
            {topics.data?.map((t) => (
              <TableRow key={t.id}>
                <TableCell>{t.name}</TableCell>
                <TableCell className="num">{count(t.people)} left it</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
      <div style={{ display: "flex", gap: 12, maxWidth: 420, margin: "10px 0" }}>
        <TextField label="A new topic" value={name} onChange={(e) => setName(e.target.value)} />
        <Button
          variant="outlined"
          style={{ flex: "none" }}
          disabled={!name.trim() || make.isPending}
          onClick={() => make.mutate()}
        >
          Make it
        </Button>
      </div>
      <Failure error={make.error} />
    </>
  );
}

/** Where everybody's consent stands, how it came about, and what waits. */
export function ConsentPage() {
  const { slips } = useClearanceSlips();
  const view = useQuery(queries.consent);
  return (
    <Frame slips={slips}>
      <Loaded query={view}>
        {(v) => {
          const of = (s: State) => v.states.find((c) => c.state === s)?.people ?? 0;
          const all = v.states.reduce((n, c) => n + c.people, 0);
          const rate = v.confirmation;
          return (
            <>
              <div className="crumb">
                <span>Consent, email</span>
              </div>
              <h1>Consent</h1>
              <AsOf of="/api/consent" />
              <p className="finding">
                <em>{count(of("consented") + of("confirmed"))}</em> of {count(all)} people allow marketing mail
                {of("withdrawn") + of("complained") > 0 &&
                  `; ${count(of("withdrawn"))} withdrew and ${count(of("complained"))} complained`}
                .
              </p>
              {v.months.length > 0 && <Months months={v.months} />}
              <h2>Sign-ups</h2>
              <p>
                {rate.of === 0 ? (
                  <span className="soft">No invitation is old enough to say how many are confirmed.</span>
                ) : (
                  <>
                    {count(rate.count)} of {plural(rate.of, "invitation")} were confirmed: {percent(rate.rate)} (95%
                    interval {bare(rate.lower)} to {bare(rate.upper)}
                    {rate.thin ? ", thin" : ""}). An invitation lives for 14 days.
                  </>
                )}{" "}
                The form's address is on each <Link to="/setup/letterheads/1">letterhead</Link>.
              </p>
              {v.waiting.length > 0 && (
                <DataTable
                  name="Not confirmed yet"
                  rows={v.waiting}
                  id={(w) => w.id}
                  columns={(col) => [
                    col.shown(
                      "Not confirmed yet",
                      (w) => w.address,
                      (w) => (
                        <>{w.contact_id ? <Link to={`/contacts/${w.contact_id}`}>{w.address}</Link> : w.address}</>
                      ),
                    ),
                    col.when("Signed up", (w) => w.at),
                    col.text("By", (w) => w.came_by),
                    col.text(
                      "Invitation",
                      (w) =>
                        w.why
                          ? `${w.invited_at ? `tried ${instant(w.invited_at)}` : "none"}: ${w.why}`
                          : w.invited_at
                            ? `sent ${instant(w.invited_at)}`
                            : "about to go",
                      { tone: (w) => (w.why ? "wait" : "") },
                    ),
                  ]}
                />
              )}
              <h2>What the permission of {count(of("consented") + of("confirmed") + of("paused"))} people rests on</h2>
              <DataTable
                name="Where consent came from"
                param="sources_by"
                rows={v.sources}
                id={(s) => `${s.source} ${s.evidence}`}
                columns={(col) => [
                  col.text("Came by", (s) => words(s.source)),
                  col.text("Evidence", (s) => s.evidence),
                  col.number("People", (s) => s.people),
                ]}
              />
              {v.beside.map((e) => (
                <div key={`${e.channel} ${e.entity}`}>
                  <h2>
                    {e.channel === "text" ? "Text messages" : "Consent"}
                    {e.entity ? ` to ${e.entity}` : ""}
                  </h2>
                  <p style={{ marginTop: 0 }}>
                    {e.states.length === 0
                      ? "Nobody gave any yet. "
                      : `${e.states.map((s) => `${count(s.people)} ${s.state}`).join(", ")}. `}
                    <span className="soft">
                      {e.channel === "text"
                        ? "Consent of their own, for a number: by a file or a person with its evidence, by an answer of START. An answer of STOP ends it."
                        : "Another legal entity keeps separate consent: people give it by its own form, and leave it by its own links."}
                    </span>
                  </p>
                </div>
              ))}
              <Faring />
              <Seals />
              <Topics />
              <p className="soft small">
                Only a person's own act, or evidence of one, changes consent. Bounces change the mail status instead.
              </p>
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
