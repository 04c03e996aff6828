import { Button, Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { queryOptions, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { AsOf } from "../../shared/AsOf";
import { bare, count, interval, percent } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { useWorking } from "../../shared/working";
import { useContactSlips } from "../contacts/useContactSlips";
import { Chart, span } from "./RingChart";
import { CostForm } from "./CostForm";

const asked = queryOptions({ queryKey: ["recency"], queryFn: () => ok(api.GET("/api/recency")) });

type Ring = Schemas["Ring"];
type Costs = Schemas["Costs"];

/** How far back a last answer may lie for mail to be worth sending. */
export function RecencyPage() {
  const slips = useContactSlips();
  const recency = useQuery(asked);
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
      <AsOf of="/api/recency" />
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

function Rings({ rings, costs }: { rings: Ring[]; costs: Costs }) {
  const { show } = useWorking();
  const cell = (r: Schemas["Rate"], digits = 1) => (
    <TableCell className="num">
      {percent(r.rate, digits)}
      <br />
      <span className="soft small">{r.of === 0 ? "" : interval(r, digits)}</span>
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
