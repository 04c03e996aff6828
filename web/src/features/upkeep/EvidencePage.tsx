import { Button, TextField } from "@mui/material";
import { queryOptions, useMutation, useQuery } from "@tanstack/react-query";
import { scaleLinear } from "d3-scale";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { bare, count, date, percent, plural } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { DAY } from "../../shared/time";
import { useUpkeepSlips } from "./useUpkeepSlips";
import { AsOf } from "../../shared/AsOf";

const asked = queryOptions({ queryKey: ["evidence"], queryFn: () => ok(api.GET("/api/upkeep/evidence")) });

type Evidence = Schemas["Evidence"];
type Course = Schemas["EvidenceCourse"];
type Marks = Schemas["EvidenceMarks"];

const WIDE = 960;
const TALL = 132;
const [LEFT, RIGHT, TOP, FOOT] = [64, 850, 8, 108];

const digits = (c: Course) => (c.measure === "complaints" ? 3 : 2);

const shown = (r: Schemas["Rate"], n: number) =>
  `${percent(r.rate, n)} (${bare(r.lower, n)} to ${bare(r.upper, n)}${r.thin ? ", thin" : ""})`;

const marksOf = (c: Course, m: Marks): [string, number][] =>
  c.measure === "accepted"
    ? [
        ["aim", m.accepted_aim],
        ["act below", m.accepted_act],
      ]
    : c.measure === "complaints"
      ? [["act above", m.complaints_act]]
      : [];

/** A rate week by week, with the limits that the base's own weeks give and the marks that somebody set. */
function Picture({ c, marks }: { c: Course; marks: Marks }) {
  const levels = marksOf(c, marks);
  const all = [
    ...c.points.flatMap((p) => [p.rate.rate ?? 0, p.low ?? p.rate.rate ?? 0, p.high ?? p.rate.rate ?? 0]),
    ...levels.map((l) => l[1]),
  ];
  const y = scaleLinear([Math.min(...all), Math.max(...all)], [FOOT, TOP]).nice(3);
  const x = scaleLinear([0, Math.max(1, c.points.length - 1)], [LEFT, RIGHT]);
  const limited = c.points.map((p, i) => ({ ...p, i })).filter((p) => p.low != null && p.high != null);
  const band = [
    ...limited.map((p) => `${x(p.i)},${y(p.high!)}`),
    ...[...limited].reverse().map((p) => `${x(p.i)},${y(p.low!)}`),
  ].join(" ");
  const step = Math.max(1, Math.ceil(c.points.length / 9));
  const outside = c.points.filter((p) => p.outside).length;
  return (
    <svg
      viewBox={`0 0 ${WIDE} ${TALL}`}
      width={WIDE}
      style={{ maxWidth: "100%", display: "block" }}
      role="img"
      aria-label={`${c.words}: ${percent(c.all.rate, digits(c))}; ${outside} of ${c.points.length} weeks outside their own limits. The table has each week.`}
    >
      {limited.length > 1 && <polygon points={band} fill="var(--deep-wash)" />}
      {y.ticks(3).map((t) => (
        <g key={t}>
          <line x1={LEFT} x2={RIGHT} y1={y(t)} y2={y(t)} stroke="var(--rule)" />
          <text x={LEFT - 8} y={y(t) + 4} fontSize={12} textAnchor="end" className="soft">
            {percent(t, digits(c))}
          </text>
        </g>
      ))}
      {levels.map(([name, level]) => (
        <g key={name}>
          <line x1={LEFT} x2={RIGHT} y1={y(level)} y2={y(level)} stroke="var(--brick)" strokeDasharray="4 3" />
          <text x={RIGHT + 8} y={y(level) + 4} fontSize={12}>
            {name} {percent(level, 1)}
          </text>
        </g>
      ))}
      <polyline
        points={c.points.map((p, i) => `${x(i)},${y(p.rate.rate ?? 0)}`).join(" ")}
        fill="none"
        stroke="var(--deep)"
        strokeWidth={1.4}
      />
      {c.points.map((p, i) => (
        <circle
          key={p.day}
          cx={x(i)}
          cy={y(p.rate.rate ?? 0)}
          r={p.outside ? 5 : 2.6}
          fill={p.outside ? "var(--brick)" : "var(--deep)"}
        />
      ))}
      {c.points.map(
        (p, i) =>
          i % step === 0 && (
            <text key={p.day} x={x(i)} y={FOOT + 18} fontSize={12} textAnchor="middle" className="soft">
              {date(p.day * DAY).replace(/ \d{4}$/, "")}
            </text>
          ),
      )}
    </svg>
  );
}

function Weeks({ c, marks }: { c: Course; marks: Marks }) {
  const outside = c.points.filter((p) => p.outside);
  return (
    <>
      <h2>{c.words}</h2>
      <p className="soft" style={{ margin: 0 }}>
        {c.all.of === 0 ? (
          "Nothing was sent in this time."
        ) : (
          <>
            {shown(c.all, digits(c))}; {count(c.all.count)} of {count(c.all.of)}.{" "}
            {c.baseline === 0
              ? "Too few weeks say how far they spread."
              : outside.length === 0
                ? "No week lies outside its own limits."
                : `${plural(outside.length, "week lies", "weeks lie")} outside ${outside.length === 1 ? "its" : "their"} own limits: from ${outside
                    .slice(-3)
                    .map((p) => date(p.day * DAY))
                    .join(", ")}.`}
            {c.thin_weeks > 0 && ` ${plural(c.thin_weeks, "week")} with fewer than 100 messages left out.`}
          </>
        )}
      </p>
      {c.points.length > 0 && (
        <>
          <Picture c={c} marks={marks} />
          <details>
            <summary>Each week as a table</summary>
            <DataTable
              name={c.words}
              rows={[...c.points].reverse()}
              id={(p) => p.day}
              dense
              columns={(col) => [
                col.day("Week from", (p) => p.day * DAY),
                col.text("Rate, 95%", (p) => shown(p.rate, digits(c))),
                col.number("Of", (p) => p.rate.of),
                col.text("Own limits", (p) =>
                  p.low == null ? "–" : `${percent(p.low, digits(c))} to ${percent(p.high, digits(c))}`,
                ),
                col.text("", (p) =>
                  [p.outside && "outside", p.beyond_mark && "beyond the mark"].filter(Boolean).join(", "),
                ),
              ]}
            />
          </details>
        </>
      )}
    </>
  );
}

/** The levels at which somebody acts. */
function SetMarks({ marks }: { marks: Marks }) {
  const [m, setM] = useState(marks);
  const save = useMutation({ mutationFn: (body: Marks) => ok(api.POST("/api/upkeep/evidence/marks", { body })) });
  const box = (key: keyof Marks, label: string) => (
    <label>
      {label}{" "}
      <input
        className="bare"
        type="number"
        step="any"
        style={{ width: 84 }}
        value={Math.round(m[key] * 1e7) / 1e5}
        onChange={(e) => setM({ ...m, [key]: Number(e.target.value) / 100 })}
      />{" "}
      %
    </label>
  );
  return (
    <>
      <div style={{ display: "flex", gap: 18, alignItems: "center", flexWrap: "wrap" }}>
        {box("accepted_aim", "Accepted: aim")}
        {box("accepted_act", "act below")}
        {box("complaints_act", "Complaints: act above")}
        <Button
          variant="outlined"
          disabled={save.isPending || JSON.stringify(m) === JSON.stringify(marks)}
          onClick={() => save.mutate(m)}
        >
          Set the marks
        </Button>
      </div>
      <Failure error={save.error} />
    </>
  );
}

function Notes({ notes }: { notes: Evidence["notes"] }) {
  const [text, setText] = useState("");
  const add = useMutation({
    mutationFn: () => ok(api.POST("/api/upkeep/evidence/notes", { body: { text } })),
    onSuccess: () => setText(""),
  });
  const remove = useMutation({
    mutationFn: (id: number) => ok(api.DELETE("/api/upkeep/evidence/notes/{id}", { params: { path: { id } } })),
  });
  return (
    <>
      <h2>Notes on cases</h2>
      <p className="soft" style={{ maxWidth: "62em" }}>
        What happened, what was done, and since when: an operator reads this first.
      </p>
      {notes.map((n) => (
        <p key={n.id} style={{ maxWidth: "62em" }}>
          <span className="soft">
            {date(n.at)}, {n.person ?? "Rinse"}:
          </span>{" "}
          {n.text}{" "}
          <button className="plain" disabled={remove.isPending} onClick={() => remove.mutate(n.id)}>
            Remove<span className="away"> the note of {date(n.at)}</span>
          </button>
        </p>
      ))}
      <div style={{ display: "flex", gap: 10, alignItems: "center" }}>
        <TextField
          size="small"
          label="Note"
          multiline
          value={text}
          onChange={(e) => setText(e.target.value)}
          style={{ width: "40em" }}
        />
        <Button variant="outlined" disabled={add.isPending || text.trim() === ""} onClick={() => add.mutate()}>
          Add the note
        </Button>
      </div>
      <Failure error={add.error ?? remove.error} />
    </>
  );
}

function Finding({ e }: { e: Evidence }) {
  const [accepted, , complaints] = e.courses as [Course, Course, Course];
  const outside = new Set(e.courses.flatMap((c) => c.points.filter((p) => p.outside).map((p) => p.day))).size;
  if (accepted.all.of === 0) return <>Nothing was sent in the last 52 weeks: there is nothing to show yet.</>;
  return (
    <>
      <em>{percent(accepted.all.rate)} of messages were accepted</em>, {percent(complaints.all.rate, 3)} complained of;{" "}
      {outside === 0 ? "no week" : plural(outside, "week")} outside what is usual here.
    </>
  );
}

/** What somebody outside is shown so that they believe the base is kept clean. */
export function EvidencePage() {
  const slips = useUpkeepSlips();
  const evidence = useQuery(asked);
  return (
    <Frame slips={slips}>
      <Loaded query={evidence}>
        {(e) => (
          <>
            <div className="crumb">
              <span>Upkeep</span>
              <span>
                evidence of {date(e.since)} to {date(e.made_at)}
              </span>
            </div>
            <h1>Evidence</h1>
            <AsOf of="/api/upkeep/evidence" />
            <p className="finding">
              <Finding e={e} />
            </p>
            <div style={{ display: "flex", gap: 10, alignItems: "center", margin: "10px 0" }}>
              <Button variant="contained" component="a" href="/api/upkeep/evidence.zip">
                The pack, as a zip
              </Button>
              <Button variant="outlined" component="a" href="/api/upkeep/evidence.pdf" target="_blank">
                Its PDF alone
              </Button>
              <span className="soft">PDF to read, CSVs and JSON behind it; addresses masked.</span>
            </div>
            {e.courses.map((c) => (
              <Weeks key={c.measure} c={c} marks={e.marks} />
            ))}
            <p className="soft small" style={{ maxWidth: "62em" }}>
              The band holds the limits that the base’s own weeks give (Laney’s p′ chart), from the weeks before the
              last eight. Large points lie outside. Dashed lines are the marks below.
            </p>
            <SetMarks key={JSON.stringify(e.marks)} marks={e.marks} />
            <Notes notes={e.notes} />
            <h2>Month by month</h2>
            <DataTable
              name="Month by month"
              rows={[...e.months].reverse()}
              id={(m) => m.month}
              dense
              columns={(col) => [
                col.text("Month", (m) => m.month),
                col.number("Sent", (m) => m.sent),
                col.number("Accepted", (m) => m.accepted),
                col.number("Failed for good", (m) => m.bounced_permanently),
                col.number("For a time", (m) => m.bounced_temporarily),
                col.number("Blocked", (m) => m.blocked),
                col.number("Complaints", (m) => m.complaints),
                col.number("Retired", (m) => m.retired),
                col.number("Rested", (m) => m.rested),
                col.number("Sunset", (m) => m.sunset),
                col.number("Deleted", (m) => m.deleted),
                col.number("Withdrew", (m) => m.withdrew),
              ]}
            />
            <p className="soft">
              The pack also has the <Link to="/upkeep/policy">rules in force</Link>,{" "}
              <Link to="/upkeep/runs">cleaning runs</Link>, <Link to="/upkeep/incidents">incidents</Link> with what was
              decided, and the newest {count(e.removed.length)} retired addresses, masked.
            </p>
          </>
        )}
      </Loaded>
    </Frame>
  );
}
