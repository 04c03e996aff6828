import { Button } from "@mui/material";
import type { Schemas } from "../../api/client";
import { RateWorking } from "../../shared/Figure";
import { count, date, percent, plural } from "../../shared/format";

type Row = Pick<Schemas["FindingsGroup"], "key" | "name" | "figures" | "sent" | "started_at" | "mailings">;
type Definition = Schemas["FigureDefinition"];
/** A figure of a mailing or a group of messages, with the catalogue that defines it. */
export type FigureOf = { row: Row; figure: Definition; catalogue: Definition[] };
type Rate = Schemas["Rate"];

/** What a figure counts, of what, and what is left out: as the catalogue says it. */
export function FigureWorking({ row, figure, catalogue }: FigureOf) {
  const of = (key: string): Rate | undefined => row.figures[key];
  const named = (key: string) => catalogue.find((d) => d.figure === key);
  const r = of(figure.key);
  const mailing = row.started_at == null ? undefined : row.key;
  const reported = figure.reported ? of(figure.reported) : undefined;
  const known = of("opens_known");
  const told = (figures: Schemas["Figure"][]) => figures.map((p) => ({ said: named(p), rate: of(p) }));
  const parts = told(figure.parts);
  // What was taken out, by what explains it; what explains nothing here isn't told.
  const takenOut = told(figure.taken_out).filter((p) => (p.rate?.count ?? 0) > 0);
  return (
    <>
      {r ? (
        <RateWorking rate={r} digits={figure.decimals + 1}>
          <dt>Of</dt>
          <dd>{figure.of_words}</dd>
          {figure.of === "opens_known" && known && known.of > known.count && (
            <>
              <dt>Not known</dt>
              <dd>
                {count(known.of - known.count)} more delivered ({percent((known.of - known.count) / known.of)})
              </dd>
            </>
          )}
          {reported && (
            <>
              <dt>As reported</dt>
              <dd>
                {count(reported.count)} of {count(reported.of)} ({percent(reported.rate)})
              </dd>
            </>
          )}
          {[...parts, ...takenOut].map(
            ({ said, rate }) =>
              said &&
              rate && (
                <div key={said.key} style={{ display: "contents" }}>
                  <dt>{said.name}</dt>
                  <dd>
                    {mailing ? (
                      <a href={`/api/findings/${mailing}/${said.key}.csv`}>{count(rate.count)}</a>
                    ) : (
                      count(rate.count)
                    )}{" "}
                    ({percent(rate.rate, said.decimals)})
                  </dd>
                </div>
              ),
          )}
        </RateWorking>
      ) : (
        <div className="formula">{count(row.sent)}</div>
      )}
      <h3>Counted</h3>
      <p style={{ marginTop: 0 }}>{figure.counted}</p>
      {figure.left_out && (
        <>
          <h3>Left out</h3>
          <p style={{ marginTop: 0 }}>{figure.left_out}</p>
        </>
      )}
      {r?.thin && <p className="wait">Thin: fewer than 100 messages.</p>}
      <p className="soft">
        {row.name}
        {mailing ? `, ${date(row.started_at)}` : `: ${plural(row.mailings, "mailing")}`}, in the period and with the
        filters of the page. Of the last five days a failure may still be reported.
      </p>
      {mailing && (
        <Button variant="outlined" href={`/api/findings/${mailing}/${figure.key}.csv`}>
          Rows as CSV
        </Button>
      )}
    </>
  );
}
