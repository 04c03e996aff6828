import { Button, Table, TableBody, TableCell, TableHead, TableRow, TextField } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { scaleLinear, scalePoint } from "d3-scale";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { bare, count, percent } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { useWorking } from "../../shared/working";
import { useContactSlips } from "../contacts/useContactSlips";

type Ring = Schemas["Ring"];
type Costs = Schemas["Costs"];

const span = (days: number) =>
  days === 730 ? "2 years" : days % 7 === 0 ? `${days / 7} ${days === 7 ? "week" : "weeks"}` : `${days} days`;

/** How far back a last answer may lie for mail to be worth sending. */
export function RecencyPage() {
  const slips = useContactSlips();
  const recency = useQuery({ queryKey: ["recency"], queryFn: () => ok(api.GET("/api/recency")) });
  return (
    <Frame slips={slips}>
      <Loaded query={recency}>{(v) => <Guide key={JSON.stringify(v.costs)} view={v} />}</Loaded>
    </Frame>
  );
}

function Guide({ view: { guide, costs } }: { view: Schemas["RecencyView"] }) {
  const rings = [...guide.rings, guide.beyond];
  const seen = rings.reduce((n, r) => n + r.people, 0);
  const last = guide.rings.find((r) => r.to_days === guide.suggestion);
  const outside = guide.rings.find((r) => guide.suggestion != null && r.from_days === guide.suggestion);
  const tree = {
    kind: "all",
    of: [{ kind: "did", did: "opened", human: true, times: { at_least: 1 }, within_days: guide.suggestion }],
  };
  return (
    <>
      <div className="crumb">
        <span>Contacts</span>
        <span>from the messages of the last 180 days that are at least a week old: one a person, drawn at random</span>
      </div>
      <h1>How far back may a last answer lie?</h1>
      <p className="finding">
        {seen === 0 ? (
          "No message is old enough to learn from yet."
        ) : guide.suggestion == null ? (
          <>
            At these costs <em className="bad">no window pays</em>, not even the last week's answers.
          </>
        ) : (
          <>
            Mail to people who answered in the last <em>{span(guide.suggestion)}</em> pays to its outermost ring
            {last ? `: ${signed(last.net_per_thousand)} a thousand messages there` : ""}.
          </>
        )}
      </p>
      {outside && outside.people > 0 && (
        <p className="soft" style={{ maxWidth: "48em" }}>
          People one ring further out were mailed {outside.mailed_since.toFixed(0)} times on average since they last
          answered, and {percent(outside.opens.rate)} opened.
        </p>
      )}
      {seen > 0 && <Chart rings={rings} suggestion={guide.suggestion ?? null} />}
      {seen > 0 && <Rings rings={rings} costs={costs} />}
      {guide.open_blind > 0 && (
        <p className="soft small">
          {count(guide.open_blind)} people are in no ring: their opens can't be told from a machine's.{" "}
          {percent(guide.open_blind_clicks.rate)} of them clicked ({bare(guide.open_blind_clicks.lower)} to{" "}
          {bare(guide.open_blind_clicks.upper)}).
        </p>
      )}
      {guide.suggestion != null && (
        <div className="acts">
          <Button
            variant="contained"
            component={Link}
            to={`/contacts/segments/new?name=${encodeURIComponent(`Answered in ${span(guide.suggestion)}`)}&tree=${encodeURIComponent(JSON.stringify(tree))}`}
          >
            Write it as a segment
          </Button>
        </div>
      )}
      <CostForm costs={costs} />
    </>
  );
}

const signed = (x: number) => `${x < 0 ? "−" : "+"}${Math.abs(x).toFixed(2)}`;

function Chart({ rings, suggestion }: { rings: Ring[]; suggestion: number | null }) {
  const label = (r: Ring, i: number) => (i === rings.length - 1 ? "longer, never" : span(r.to_days));
  const x = scalePoint(rings.map(label), [60, 720]).padding(0.5);
  // A thin ring's wide interval must not flatten the others: it runs out at the top.
  const top = Math.max(0.05, ...rings.map((r) => (r.opens.thin ? r.opens.rate : r.opens.upper) ?? 0));
  const y = scaleLinear([0, top], [220, 14]).nice();
  const edge = rings.findIndex((r) => r.to_days === suggestion);
  const at = (i: number) => x(label(rings[i]!, i))!;
  const border = edge >= 0 ? (at(edge) + at(Math.min(edge + 1, rings.length - 1))) / 2 : null;
  return (
    <svg
      viewBox="0 0 740 268"
      width="740"
      style={{ maxWidth: "100%", display: "block" }}
      role="img"
      aria-label={rings.map((r, i) => `${label(r, i)}: ${percent(r.opens.rate)} of ${count(r.people)}`).join("; ")}
    >
      {border !== null && (
        <>
          <rect x={60} y={14} width={border - 60} height={206} fill="var(--deep-wash)" opacity={0.5} />
          <text x={border - 6} y={28} fontSize={12} textAnchor="end" fill="var(--deep)">
            pays to here
          </text>
        </>
      )}
      {y.ticks(4).map((t) => (
        <g key={t}>
          <line x1={60} x2={720} y1={y(t)} y2={y(t)} stroke="var(--rule)" strokeWidth={0.6} />
          <text x={52} y={y(t) + 4} fontSize={12} textAnchor="end" className="soft">
            {(t * 100).toFixed(0)}%
          </text>
        </g>
      ))}
      <line x1={60} x2={720} y1={220} y2={220} stroke="var(--ink)" strokeWidth={1.2} />
      {rings.map((r, i) => {
        const tone = r.pays ? "var(--deep)" : "var(--brick)";
        return (
          <g key={i}>
            {r.opens.rate != null && (
              <>
                <line
                  x1={at(i)}
                  x2={at(i)}
                  y1={y(r.opens.lower!)}
                  y2={Math.max(8, y(r.opens.upper!))}
                  stroke={tone}
                  strokeWidth={3}
                />
                <circle
                  cx={at(i)}
                  cy={y(r.opens.rate)}
                  r={6}
                  stroke={tone}
                  strokeWidth={2}
                  fill={r.opens.thin ? "var(--sheet)" : tone}
                />
              </>
            )}
            <text x={at(i)} y={238} fontSize={12} textAnchor="middle">
              {label(r, i)}
            </text>
            <text x={at(i)} y={254} fontSize={12} textAnchor="middle" className="soft">
              {count(r.people)}
              {r.opens.thin && r.people > 0 ? ", thin" : ""}
            </text>
          </g>
        );
      })}
    </svg>
  );
}

function Rings({ rings, costs }: { rings: Ring[]; costs: Costs }) {
  const { show } = useWorking();
  const cell = (r: Schemas["Rate"], digits = 1) => (
    <TableCell className="num">
      {percent(r.rate, digits)}
      <br />
      <span className="soft small">
        {r.of === 0 ? "" : r.thin ? "thin" : `${bare(r.lower, digits)} to ${bare(r.upper, digits)}`}
      </span>
    </TableCell>
  );
  return (
    <Table>
      <TableHead>
        <TableRow>
          <TableCell>Last answer</TableCell>
          <TableCell className="num">People</TableCell>
          <TableCell className="num">Human opens</TableCell>
          <TableCell className="num">Clicks</TableCell>
          <TableCell className="num">Complaints</TableCell>
          <TableCell className="num">Withdrawals</TableCell>
          <TableCell className="num">Bounces</TableCell>
          <TableCell className="num">Mailed since</TableCell>
          <TableCell className="num">Net a thousand</TableCell>
        </TableRow>
      </TableHead>
      <TableBody>
        {rings.map((r, i) => (
          <TableRow key={i}>
            <TableCell>
              {i === rings.length - 1
                ? "longer ago, or never"
                : `${r.from_days ? `${span(r.from_days)} to ` : "up to "}${span(r.to_days)}`}
            </TableCell>
            <TableCell className="num">{count(r.people)}</TableCell>
            {cell(r.opens)}
            {cell(r.clicks)}
            {cell(r.complaints, 2)}
            {cell(r.withdrawals, 2)}
            {cell(r.bounces, 2)}
            <TableCell className="num">{r.people ? `${r.mailed_since.toFixed(1)} times` : "–"}</TableCell>
            <TableCell className="num">
              {r.people > 0 && (
                <button
                  className={r.pays ? "figure" : "figure bad"}
                  onClick={() =>
                    show({ title: `Net: ${signed(r.net_per_thousand)} a thousand`, body: <Net r={r} costs={costs} /> })
                  }
                >
                  {signed(r.net_per_thousand)}
                </button>
              )}
            </TableCell>
          </TableRow>
        ))}
      </TableBody>
    </Table>
  );
}

function Net({ r, costs }: { r: Ring; costs: Costs }) {
  const parts: [string, Schemas["Rate"], number, number][] = [
    ["opens", r.opens, costs.open, 1],
    ["clicks", r.clicks, costs.click, 1],
    ["complaints", r.complaints, costs.complaint, -1],
    ["withdrawals", r.withdrawals, costs.withdrawal, -1],
    ["bounces", r.bounces, costs.bounce, -1],
  ];
  return (
    <>
      <div className="formula">1000 × (worth − cost) / {count(r.people)} messages</div>
      <dl>
        {parts.map(([name, rate, each, sign]) => [
          <dt key={name}>
            {sign > 0 ? "+" : "−"} {count(rate.count)} {name}
          </dt>,
          <dd key={`${name}-each`}>at {each}</dd>,
        ])}
      </dl>
      <h3>Counted</h3>
      <p style={{ marginTop: 0 }}>
        One marketing message a person, drawn at random from those of the last 180 days that are at least a week old.
        (The latest would be the one they left by, for everyone who left.) Their ring is the time from their last human
        open, click or reply before it.
      </p>
      {r.opens.thin && <p className="wait">Thin: fewer than 100 people; a thin ring is never the suggestion.</p>}
    </>
  );
}

function CostForm({ costs }: { costs: Costs }) {
  const client = useQueryClient();
  const share = (f: number | null | undefined) => (f == null ? "" : String(f * 100));
  const [d, setD] = useState({
    open: String(costs.open),
    click: String(costs.click),
    complaint: String(costs.complaint),
    withdrawal: String(costs.withdrawal),
    bounce: String(costs.bounce),
    floor_overall: share(costs.floor_overall),
    floor_ring: share(costs.floor_ring),
  });
  const save = useMutation({
    mutationFn: () => {
      const floor = (t: string) => (t.trim() === "" ? null : Number(t) / 100);
      return ok(
        api.PUT("/api/recency", {
          body: {
            open: Number(d.open),
            click: Number(d.click),
            complaint: Number(d.complaint),
            withdrawal: Number(d.withdrawal),
            bounce: Number(d.bounce),
            floor_overall: floor(d.floor_overall),
            floor_ring: floor(d.floor_ring),
          },
        }),
      );
    },
    onSuccess: () => client.invalidateQueries({ queryKey: ["recency"] }),
  });
  const box = (key: keyof typeof d, label: string) => (
    <TextField
      label={label}
      value={d[key]}
      onChange={(e) => setD({ ...d, [key]: e.target.value })}
      slotProps={{ htmlInput: { inputMode: "decimal" } }}
    />
  );
  return (
    <>
      <h2>What an answer is worth, and what a loss costs</h2>
      <div
        className="fields"
        style={{ display: "grid", gridTemplateColumns: "repeat(4, 1fr)", gap: 12, maxWidth: 820 }}
      >
        {box("open", "A human open")}
        {box("click", "A human click")}
        {box("complaint", "A complaint")}
        {box("withdrawal", "A withdrawal")}
        {box("bounce", "A bounce")}
        {box("floor_overall", "Opens overall, at least %")}
        {box("floor_ring", "Opens of a ring, at least %")}
      </div>
      <Failure error={save.error} />
      <div className="acts">
        <Button variant="outlined" disabled={save.isPending} onClick={() => save.mutate()}>
          Reckon with these
        </Button>
      </div>
    </>
  );
}
