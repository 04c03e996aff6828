import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { ByLabel, useByLabel } from "../../shared/ByLabel";
import { Figure, RateNote } from "../../shared/Figure";
import { bare, count, date, percent, plural } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { FigureWorking, type FigureOf } from "./FigureWorking";

/** The figures that stand beside each other; the others are told in their workings. */
const SHOWN: Schemas["Figure"][] = ["accepted", "bounced", "human_opens", "human_clicks", "complaints", "leaving"];

function Told({ row, figure, catalogue, counts }: FigureOf & { counts: boolean }) {
  const r = row.figures[figure.key];
  if (!r) return "can't be seen";
  const told = counts ? count(r.count) : percent(r.rate, figure.decimals);
  return (
    <>
      <Figure
        title={`${figure.name}: ${told}`}
        working={<FigureWorking row={row} figure={figure} catalogue={catalogue} />}
      >
        {told}
      </Figure>
      {counts && !r.thin ? (
        <div className="soft small">of {count(r.of)}</div>
      ) : (
        <RateNote rate={r} digits={figure.decimals} />
      )}
    </>
  );
}

export function FindingsPage() {
  const [params, setParams] = useSearchParams();
  const { label, labels, carries } = useByLabel();
  const days = params.get("days") ? Number(params.get("days")) : undefined;
  const counts = params.get("as") === "counts";
  const set = (key: string, value: string | null) => {
    const p = new URLSearchParams(params);
    if (value === null) p.delete(key);
    else p.set(key, value);
    setParams(p, { replace: true });
  };
  const findings = useQuery({
    queryKey: ["findings", days],
    queryFn: () => ok(api.GET("/api/findings", { params: { query: { days } } })),
  });
  const periods: [string, number | undefined][] = [
    ["All time", undefined],
    ["Last 90 days", 90],
    ["Last 30 days", 30],
  ];
  return (
    <Frame
      slips={[
        {
          title: "Findings",
          slips: periods.map(([title, d]) => ({ to: d ? `/findings?days=${d}` : "/findings", title })),
        },
      ]}
    >
      <Loaded query={findings}>
        {({ mailings: sent, all, catalogue }) => {
          const columns = SHOWN.flatMap((f) => catalogue.filter((d) => d.figure === f));
          const mailings = sent.filter((m) => carries(m.id));
          const newest = mailings[0];
          // Nobody can tell whether a text message was opened.
          const opened = mailings.find((m) => m.channel === "email");
          const opens = opened?.figures.human_opens;
          return (
            <>
              <div className="crumb">
                <span>Findings</span>
                <span>mailings</span>
              </div>
              <h1>How the mailings did</h1>
              {opened && opens ? (
                <p className="finding">
                  The newest{opened === newest ? "" : " email"}, {opened.name}, was opened by{" "}
                  <em>{percent(opens.rate)}</em> of the people whose opens can be known ({bare(opens.lower)} to{" "}
                  {bare(opens.upper)}).
                </p>
              ) : newest ? (
                <p className="finding">
                  What went out went as text messages: nobody can tell whether those were opened.
                </p>
              ) : (
                <p className="finding">
                  No mailing {label ? `labelled ${label} ` : ""}has gone out {days ? "in these days" : "yet"}.
                </p>
              )}
              {newest && (
                <>
                  <div className="filters" style={{ display: "flex", gap: 16, alignItems: "center", flexWrap: "wrap" }}>
                    <span className="switch" role="group" aria-label="Counts or rates">
                      <button aria-pressed={!counts} onClick={() => set("as", null)}>
                        Rates
                      </button>
                      <button aria-pressed={counts} onClick={() => set("as", "counts")}>
                        Counts
                      </button>
                    </span>
                    <span>
                      {days ? (
                        <>
                          in the <button onClick={() => set("days", null)}>last {days} days ×</button>:{" "}
                        </>
                      ) : (
                        ""
                      )}
                      {count(mailings.length)} of {plural(all, "mailing")} shown
                    </span>
                  </div>
                  <ByLabel labels={labels} label={label} />
                  <DataTable
                    name="Mailings"
                    rows={mailings}
                    id={(m) => m.id}
                    columns={(col) => [
                      col.shown(
                        "Mailing",
                        (m) => m.name,
                        (m) => (
                          <>
                            {m.name}
                            <div className="soft small">
                              {m.channel === "text" ? "text message, " : ""}
                              {date(m.started_at)}
                            </div>
                          </>
                        ),
                      ),
                      col.number("Sent", (m) => m.sent, {
                        cell: (m) => (
                          <Figure
                            title={`Sent: ${count(m.sent)}`}
                            working={catalogue
                              .filter((d) => d.figure === "sent")
                              .map((d) => (
                                <FigureWorking key={d.key} row={m} figure={d} catalogue={catalogue} />
                              ))}
                          >
                            {count(m.sent)}
                          </Figure>
                        ),
                      }),
                      ...columns.map((d) =>
                        col.shown(
                          d.name,
                          (m) => (counts ? m.figures[d.key]?.count : m.figures[d.key]?.rate),
                          (m) => <Told row={m} figure={d} catalogue={catalogue} counts={counts} />,
                          { num: true, tone: (m) => (m.figures[d.key] ? undefined : "soft") },
                        ),
                      ),
                    ]}
                  />
                </>
              )}
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
