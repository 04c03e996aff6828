import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok, post, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { FileButton } from "../../shared/FileButton";
import { RateNote } from "../../shared/Figure";
import { count, date, instant, percent, plural } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { DAY } from "../../shared/time";
import { deliverySlips } from "./slips";

type Source = Schemas["SendingSource"];

function rate(r: Schemas["Rate"]) {
  return (
    <>
      {percent(r.rate)}
      <RateNote rate={r} digits={1} />
    </>
  );
}

function Sentence({ v }: { v: Schemas["ReportsIn"] }) {
  const fresh = v.sources.filter((s) => s.new);
  if (v.messages === 0)
    return (
      <p className="finding">
        No DMARC report is here yet: hosts send them to the address in your domain’s DMARC record.
      </p>
    );
  return (
    <p className="finding">
      Of {count(v.messages)} messages in our name, <em>{percent(v.aligned.rate)}</em> were ours to send
      {fresh.length > 0 &&
        `; ${plural(fresh.length, "source")} not seen before: ${fresh
          .slice(0, 3)
          .map((s) => s.source)
          .join(", ")}${fresh.length > 3 ? ", …" : ""}`}
      .
    </p>
  );
}

/** Who sends in our name, as other hosts report it. */
export function ReportsPage() {
  const [taken, setTaken] = useState<Schemas["ReportsTaken"] | null>(null);
  const view = useQuery({
    queryKey: ["delivery-reports"],
    queryFn: () => ok(api.GET("/api/delivery/reports", { params: { query: { days: 90 } } })),
  });
  const take = useMutation({
    mutationFn: async (file: File) => {
      const path = `/api/delivery/reports?name=${encodeURIComponent(file.name)}`;
      const answer = await post(path, file, "The file was refused.", "application/octet-stream");
      return (await answer.json()) as Schemas["ReportsTaken"];
    },
    onSuccess: setTaken,
  });
  return (
    <Frame slips={deliverySlips}>
      <Loaded query={view}>
        {(v) => (
          <>
            <div className="crumb">
              <span>Delivery</span>
              <span>reports of the last 90 days</span>
            </div>
            <h1>Who sends in our name</h1>
            <Sentence v={v} />
            <div className="acts">
              <FileButton
                label="A DMARC or TLS report"
                accept=".xml,.gz,.zip,.json,.eml"
                variant="outlined"
                busy={take.isPending}
                onFile={(file) => take.mutate(file)}
              >
                Take a report in
              </FileButton>
              <span className="soft small">XML, JSON, gz, zip, or the mail it came with</span>
            </div>
            <Failure error={take.error} />
            {taken && (
              <p className="note" role="status">
                {taken.unreadable > 0
                  ? "It can’t be read as a report: it stands below, with the reason."
                  : taken.new > 0
                    ? `${plural(taken.new, "report")} taken in.`
                    : "It was here already: nothing changed."}
              </p>
            )}
            {v.sources.length > 0 && (
              <DataTable<Source>
                name="Sources"
                rows={v.sources}
                id={(s) => s.source}
                columns={(col) => [
                  col.shown(
                    "Source",
                    (s) => s.source,
                    (s) => (
                      <>
                        {s.source}
                        {s.new && <span className="wait"> not seen before</span>}
                        <div className="soft small">in the name of {s.domains.join(", ") || "–"}</div>
                      </>
                    ),
                  ),
                  col.number("Messages", (s) => s.messages),
                  col.shown(
                    "Ours to send",
                    (s) => s.aligned.rate,
                    (s) => rate(s.aligned),
                    { num: true },
                  ),
                  col.shown(
                    "by DKIM",
                    (s) => s.dkim.rate,
                    (s) => percent(s.dkim.rate),
                    { num: true },
                  ),
                  col.shown(
                    "by SPF",
                    (s) => s.spf.rate,
                    (s) => percent(s.spf.rate),
                    { num: true },
                  ),
                  col.number("Stopped", (s) => s.stopped),
                  col.text("Seen by", (s) => s.seen_by.join(", ")),
                  col.day("Last", (s) => s.last_day * DAY),
                ]}
              />
            )}
            {v.of_sources > v.sources.length && (
              <p className="soft small">
                The {count(v.sources.length)} sources with most that wasn’t ours, of {count(v.of_sources)}.
              </p>
            )}
            {v.tls.length > 0 && (
              <>
                <h2>Connections</h2>
                <DataTable
                  name="Connections"
                  param="tls_by"
                  rows={v.tls}
                  id={(t, i) => `${t.org} ${t.domain} ${t.policy} ${i}`}
                  columns={(col) => [
                    col.text("Told by", (t) => t.org),
                    col.text("Domain", (t) => t.domain),
                    col.text("Policy", (t) => t.policy),
                    col.number("Secured", (t) => t.good),
                    col.number("Failed", (t) => t.failed),
                    col.text("Why", (t) => t.reasons.join(", ")),
                  ]}
                />
              </>
            )}
            {v.came.length > 0 && (
              <>
                <h2>What came in</h2>
                <DataTable
                  name="Reports"
                  param="came_by"
                  rows={v.came}
                  id={(c) => c.id}
                  first={10}
                  dense
                  columns={(col) => [
                    col.text("File", (c) => c.name),
                    col.text("From", (c) => c.org ?? "–"),
                    col.text("About", (c) => c.domain ?? "–"),
                    col.text("Kind", (c) =>
                      c.kind === "unreadable" ? `unreadable: ${c.error ?? ""}` : c.kind.toUpperCase(),
                    ),
                    col.text("Of", (c) => (c.begin_at == null ? "–" : date(c.begin_at))),
                    col.text("Came", (c) => instant(c.came_at)),
                  ]}
                />
              </>
            )}
            <p className="soft small" style={{ maxWidth: "62em" }}>
              Ours to send: DKIM or SPF passed for an address of the domain (aligned, RFC 7489). What isn’t may be a
              service of yours whose mail isn’t signed yet, a list that forwards, or somebody who pretends to be you.
            </p>
          </>
        )}
      </Loaded>
    </Frame>
  );
}
