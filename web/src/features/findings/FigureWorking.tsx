import { Button } from "@mui/material";
import type { Schemas } from "../../api/client";
import { bare, count, date, percent, plural } from "../../shared/format";

type Row = Schemas["MailingFigures"];
export type Definition = Schemas["FigureDefinition"];
type Rate = Schemas["Rate"];

/** What a figure counts, of what, and what is left out: as the catalogue says it. */
export function FigureWorking({ row, figure, catalogue }: { row: Row; figure: Definition; catalogue: Definition[] }) {
  const of = (key: string): Rate | undefined => row.figures[key];
  const named = (key: string) => catalogue.find((d) => d.figure === key);
  const r = of(figure.key);
  const reported = figure.reported ? of(figure.reported) : undefined;
  const known = of("opens_known");
  const parts = figure.parts.map((p) => ({ said: named(p), rate: of(p) }));
  return (
    <>
      <div className="formula">
        {r ? (
          <>
            {count(r.count)} / {count(r.of)} = {percent(r.rate, figure.decimals + 1)}
          </>
        ) : (
          count(row.sent)
        )}
      </div>
      <dl>
        {r && (
          <>
            <dt>Of</dt>
            <dd>{figure.of_words}</dd>
            <dt>Interval (Wilson, 95%)</dt>
            <dd>
              {bare(r.lower, 2)} to {bare(r.upper, 2)}
            </dd>
          </>
        )}
        {figure.of === "opens_known" && known && known.of > known.count && (
          <>
            <dt>Not known</dt>
            <dd>
              {count(known.of - known.count)} more delivered ({percent((known.of - known.count) / known.of)})
            </dd>
          </>
        )}
        {r && reported && (
          <>
            <dt>As reported</dt>
            <dd>
              {count(reported.count)} of {count(reported.of)} ({percent(reported.rate)})
            </dd>
          </>
        )}
        {parts.map(
          ({ said, rate }) =>
            said &&
            rate && (
              <div key={said.key} style={{ display: "contents" }}>
                <dt>{said.name}</dt>
                <dd>
                  <a href={`/api/findings/${row.id}/${said.key}.csv`}>{count(rate.count)}</a> (
                  {percent(rate.rate, said.decimals)})
                </dd>
              </div>
            ),
        )}
      </dl>
      <h3>Counted</h3>
      <p style={{ marginTop: 0 }}>{figure.counted}</p>
      {figure.left_out && (
        <>
          <h3>Left out</h3>
          <p style={{ marginTop: 0 }}>{figure.left_out}</p>
        </>
      )}
      {row.too_new > 0 && figure.of !== "sent" && r && (
        <p className="wait">
          {plural(row.too_new, "delivered message")} of the last five days: a failure may still be reported.
        </p>
      )}
      {r?.thin && <p className="wait">Thin: fewer than 100 messages.</p>}
      <p className="soft">
        {row.name}, {date(row.started_at)}. No other filter in force.
      </p>
      <Button variant="outlined" href={`/api/findings/${row.id}/${figure.key}.csv`}>
        Rows as CSV
      </Button>
    </>
  );
}
