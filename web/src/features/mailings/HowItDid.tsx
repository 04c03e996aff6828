import { useQuery } from "@tanstack/react-query";
import { scaleLinear } from "d3-scale";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Figure } from "../../shared/Figure";
import { bare, count, interval, percent, plural } from "../../shared/format";
import { Hours } from "../../shared/picture/Hours";
import { DataTable } from "../../shared/table/DataTable";
import { FigureWorking } from "../findings/FigureWorking";

type Did = Schemas["MailingDid"];
type Definition = Schemas["FigureDefinition"];
type Rate = Schemas["Rate"];

const WIDE = 220;
const HIGH = 20;

/** A rate with its interval on the band of its norm, each figure on a scale of its own that begins at nothing. */
function OnItsNorm({ rate, norm }: { rate: Rate; norm: Schemas["OwnNorm"] | undefined }) {
  if (rate.rate == null) return null;
  const most = Math.max(rate.thin ? rate.rate : rate.upper!, norm?.upper ?? 0, 1e-6);
  const x = scaleLinear([0, most * 1.05], [4, WIDE - 6]).clamp(true);
  const tone = norm?.outside ? "var(--brick)" : "var(--soft)";
  return (
    <svg width={WIDE} height={HIGH} aria-hidden="true" style={{ display: "block" }}>
      {norm && (
        <>
          <rect x={x(norm.lower)} width={x(norm.upper) - x(norm.lower)} height={HIGH} fill="var(--band)" />
          <line x1={x(norm.center)} x2={x(norm.center)} y2={HIGH} stroke="var(--soft)" strokeDasharray="2 3" />
        </>
      )}
      <line x1={x(0)} x2={x(0)} y2={HIGH} stroke="var(--ink)" />
      <line x1={x(rate.lower!)} x2={x(rate.upper!)} y1={10} y2={10} stroke={tone} strokeWidth={1.6} />
      <circle
        cx={x(rate.rate)}
        cy={10}
        r={4.5}
        fill={rate.thin ? "var(--sheet)" : tone}
        stroke={tone}
        strokeWidth={1.6}
      />
    </svg>
  );
}

/** What stands out: outside its norm, or not. */
function Sentence({ did, shown }: { did: Did; shown: Definition[] }) {
  const outside = shown.filter((d) => did.norms[d.key]?.outside);
  const normed = shown.some((d) => did.norms[d.key]);
  const opens = did.whole.figures.human_opens;
  const said =
    opens?.rate != null ? (
      <>
        <em>{percent(opens.rate)}</em> opened it, of {plural(opens.of, "person", "people")} whose opens can be known
      </>
    ) : (
      <>
        {plural(did.whole.figures.delivered?.count ?? 0, "person", "people")} <em>got it</em>
      </>
    );
  return (
    <p className="finding">
      {said}
      {!normed
        ? "; too few mailings of its kind to have a norm."
        : outside.length === 0
          ? "; nothing of it lies outside the norm of its kind."
          : `; outside the norm of its kind: ${outside.map((d) => d.name.toLowerCase()).join(", ")}.`}
      {did.too_new > 0 && ` Of ${count(did.too_new)} delivered in the last five days a failure may still be reported.`}
    </p>
  );
}

/** How a mailing did, from its first handover on: every figure against the norm of its kind, by domain, by hour. */
export function HowItDid({ id, live }: { id: number; live: boolean }) {
  const asked = useQuery({
    queryKey: ["mailing-did", id],
    queryFn: () => ok(api.GET("/api/mailings/{id}/did", { params: { path: { id } } })),
    refetchInterval: live ? 5000 : false,
  });
  const did = asked.data;
  if (!did || did.whole.sent === 0) return null;
  const { whole, catalogue } = did;
  // What machines did is told in the workings of what people did.
  const machines = new Set(catalogue.flatMap((d) => d.taken_out));
  const shown = catalogue.filter((d) => d.of && whole.figures[d.key] && !machines.has(d.figure));
  const columns = catalogue.filter((d) => ["accepted", "human_opens", "human_clicks", "leaving"].includes(d.key));
  return (
    <>
      <h2>How it did</h2>
      <Sentence did={did} shown={shown} />
      <DataTable
        name="How it did"
        plain
        dense
        rows={shown}
        id={(d) => d.key}
        columns={(col) => [
          col.text("Figure", (d) => d.name),
          col.shown(
            "Rate",
            (d) => whole.figures[d.key]!.rate,
            (d) => (
              <Figure
                title={`${d.name}: ${percent(whole.figures[d.key]!.rate, d.decimals)}`}
                working={<FigureWorking row={whole} figure={d} catalogue={catalogue} />}
              >
                {percent(whole.figures[d.key]!.rate, d.decimals)}
              </Figure>
            ),
            { num: true },
          ),
          col.text("95%", (d) => interval(whole.figures[d.key]!, d.decimals), { num: true }),
          col.text("Messages", (d) => `${count(whole.figures[d.key]!.count)} of ${count(whole.figures[d.key]!.of)}`, {
            num: true,
          }),
          col.acts((d) => <OnItsNorm rate={whole.figures[d.key]!} norm={did.norms[d.key]} />),
          col.text("Norm of its kind", (d) => {
            const n = did.norms[d.key];
            return n
              ? `${bare(n.lower, d.decimals)} to ${bare(n.upper, d.decimals)}${n.outside ? ", outside" : ""}`
              : "none yet";
          }),
        ]}
      />
      <p className="soft small">
        Band: the norm of its kind (Laney’s p′, the 20 mailings before with its topic, or else its letterhead, of twelve
        months); thin: fewer than 100 messages.
      </p>
      <Hours name="When it was answered" kinds={did.answers} />
      {did.domains.length > 1 && (
        <>
          <h2>Answers by mailbox domain</h2>
          <DataTable
            name="By mailbox domain"
            param="domains_by"
            dense
            first={8}
            rows={did.domains}
            id={(r) => r.key}
            columns={(col) => [
              col.text("Domain", (r) => r.name),
              col.number("Sent", (r) => r.sent),
              ...columns.map((d) =>
                col.shown(
                  d.name,
                  (r) => r.figures[d.key]?.rate,
                  (r) => {
                    const rate = r.figures[d.key];
                    if (!rate) return "can't be seen";
                    return (
                      <Figure
                        title={`${d.name}, ${r.name}: ${percent(rate.rate, d.decimals)}`}
                        working={<FigureWorking row={r} figure={d} catalogue={catalogue} />}
                      >
                        {percent(rate.rate, d.decimals)}{" "}
                        <span className="soft small">{interval(rate, d.decimals)}</span>
                      </Figure>
                    );
                  },
                  { num: true },
                ),
              ),
            ]}
          />
        </>
      )}
      <p className="soft small">
        <Link to={`/findings?mailing=${id}&by=domain&days=36500`}>All figures by mailbox domain</Link>,{" "}
        <Link to={`/findings?mailing=${id}&by=arm&days=36500`}>by arm</Link>,{" "}
        <Link to={`/findings/compare?mailings=${id}`}>beside other mailings</Link>
      </p>
    </>
  );
}
