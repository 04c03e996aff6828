import { Button, Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { ByLabel, useByLabel } from "../../shared/ByLabel";
import { bare, count, date, percent, plural } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { useWorking } from "../../shared/working";

type Row = Schemas["MailingFigures"];
type Key = "accepted" | "bounced" | "opens" | "clicks" | "complaints" | "withdrawals";
const COLUMNS: { key: Key; label: string; counted: string; reported?: "reported_opens" | "reported_clicks" }[] = [
  { key: "accepted", label: "Accepted", counted: "Messages the host took (2xx), of those sent." },
  {
    key: "bounced",
    label: "Bounced",
    counted: "Messages refused at handover, or reported as failed afterwards, of those sent.",
  },
  {
    key: "opens",
    label: "Human opens",
    counted: "People with an open no machine rule explains, of accepted messages.",
    reported: "reported_opens",
  },
  {
    key: "clicks",
    label: "Human clicks",
    counted: "People with a click no machine rule explains, of accepted messages.",
    reported: "reported_clicks",
  },
  {
    key: "complaints",
    label: "Complaints",
    counted: "People whose host sent an abuse report (RFC 5965), of accepted messages.",
  },
  {
    key: "withdrawals",
    label: "Withdrawals",
    counted: "People who left the topic or everything by this message's link, of accepted messages.",
  },
];

/** What nobody can tell of a text message. */
const UNSEEN: Key[] = ["opens", "clicks", "complaints"];

function Working({ row, column }: { row: Row; column: (typeof COLUMNS)[number] }) {
  const r = row[column.key];
  const reported = column.reported ? row[column.reported] : null;
  return (
    <>
      <div className="formula">
        {count(r.count)} / {count(r.of)} = {percent(r.rate, 2)}
      </div>
      <dl>
        <dt>Interval (Wilson, 95%)</dt>
        <dd>
          {bare(r.lower, 2)} to {bare(r.upper, 2)}
        </dd>
        {reported && (
          <>
            <dt>As reported</dt>
            <dd>
              {count(reported.count)} ({percent(reported.rate)})
            </dd>
            <dt>Taken for machines'</dt>
            <dd>{count(reported.count - r.count)}</dd>
          </>
        )}
      </dl>
      <h3>Counted</h3>
      <p style={{ marginTop: 0 }}>{column.counted}</p>
      {reported && (
        <p className="soft">
          Machine: within 10 s of delivery, from an image proxy, from a domain that fetches by itself, three links
          within 3 s, or a HEAD request.
        </p>
      )}
      {r.thin && <p className="wait">Thin: fewer than 100 messages.</p>}
      <p className="soft">
        {row.name}, {date(row.started_at)}. No other filter in force.
      </p>
      <Button variant="outlined" href={`/api/findings/${row.id}/${column.key}.csv`}>
        Rows as CSV
      </Button>
    </>
  );
}

function SentWorking({ row }: { row: Row }) {
  return (
    <>
      <div className="formula">
        {count(row.accepted.count)} accepted + {count(row.sent - row.accepted.count)} not accepted = {count(row.sent)}
      </div>
      <h3>Counted</h3>
      <p style={{ marginTop: 0 }}>
        Messages handed over to a mail host at least once, one for each person; tests and people still held are not
        among them.
      </p>
      <p className="soft">
        {row.name}, {date(row.started_at)}. No other filter in force.
      </p>
      <Button variant="outlined" href={`/api/findings/${row.id}/sent.csv`}>
        Rows as CSV
      </Button>
    </>
  );
}

export function FindingsPage() {
  const [params, setParams] = useSearchParams();
  const { show } = useWorking();
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
        {({ mailings: sent, all }) => {
          const mailings = sent.filter((m) => carries(m.id));
          const newest = mailings[0];
          // Nobody can tell whether a text message was opened.
          const opened = mailings.find((m) => m.channel === "email");
          return (
            <>
              <div className="crumb">
                <span>Findings</span>
                <span>mailings</span>
              </div>
              <h1>How the mailings did</h1>
              {opened ? (
                <p className="finding">
                  The newest{opened === newest ? "" : " email"}, {opened.name}, was opened by{" "}
                  <em>{percent(opened.opens.rate)}</em> of people ({bare(opened.opens.lower)} to{" "}
                  {bare(opened.opens.upper)}), machines left out.
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
                  <Table>
                    <TableHead>
                      <TableRow>
                        <TableCell>Mailing</TableCell>
                        <TableCell className="num">Sent</TableCell>
                        {COLUMNS.map((c) => (
                          <TableCell key={c.key} className="num">
                            {c.label}
                          </TableCell>
                        ))}
                      </TableRow>
                    </TableHead>
                    <TableBody>
                      {mailings.map((m) => (
                        <TableRow key={m.id}>
                          <TableCell>
                            {m.name}
                            <br />
                            <span className="soft small">
                              {m.channel === "text" ? "text message, " : ""}
                              {date(m.started_at)}
                            </span>
                          </TableCell>
                          <TableCell className="num">
                            <button
                              className="figure"
                              onClick={() => show({ title: `Sent: ${count(m.sent)}`, body: <SentWorking row={m} /> })}
                            >
                              {count(m.sent)}
                            </button>
                          </TableCell>
                          {COLUMNS.map((c) => {
                            const r = m[c.key];
                            if (m.channel === "text" && UNSEEN.includes(c.key))
                              return (
                                <TableCell key={c.key} className="num soft">
                                  can't be seen
                                </TableCell>
                              );
                            const rare = c.key === "complaints" || c.key === "withdrawals" || c.key === "bounced";
                            return (
                              <TableCell key={c.key} className="num">
                                <button
                                  className="figure"
                                  onClick={() =>
                                    show({
                                      title: `${c.label}: ${counts ? count(r.count) : percent(r.rate, rare ? 2 : 1)}`,
                                      body: <Working row={m} column={c} />,
                                    })
                                  }
                                >
                                  {counts ? count(r.count) : percent(r.rate, rare ? 2 : 1)}
                                </button>
                                <br />
                                <span className="soft small">
                                  {r.thin
                                    ? "thin"
                                    : counts
                                      ? `of ${count(r.of)}`
                                      : `${bare(r.lower, rare ? 2 : 1)} to ${bare(r.upper, rare ? 2 : 1)}`}
                                </span>
                              </TableCell>
                            );
                          })}
                        </TableRow>
                      ))}
                    </TableBody>
                  </Table>
                </>
              )}
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
