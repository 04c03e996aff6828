import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { type Schemas, api, ok } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, date, percent, plural } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { ReadOtherwise, Readings } from "./ReadOtherwise";
import { useUpkeepSlips } from "./useUpkeepSlips";

type Said = Schemas["Said"];

function Finding({ s }: { s: Said }) {
  const about = s.reasons.filter((r) => r.counts).reduce((n, r) => n + r.messages, 0);
  const us = s.reasons.filter((r) => r.class.startsWith("block")).reduce((n, r) => n + r.messages, 0);
  if (s.messages === 0) return <>No message failed since {date(s.since)}.</>;
  return (
    <>
      <em>{plural(s.messages, "message")} failed</em> since {date(s.since)}: {about === 0 ? "none" : count(about)} for
      the address or its host, {us === 0 ? "none" : count(us)} because of us.
    </>
  );
}

/** How many failed for which reason, as bars. */
function Reasons({ s, only, choose }: { s: Said; only: string | null; choose: (reason: string | null) => void }) {
  const most = Math.max(1, ...s.reasons.map((r) => r.messages));
  return (
    <div role="group" aria-label="Failures by reason" style={{ margin: "12px 0" }}>
      {s.reasons.map((r) => (
        <div
          key={r.reason}
          style={{ display: "grid", gridTemplateColumns: "230px 1fr 190px", gap: 12, padding: "3px 0" }}
        >
          <button
            className="plain"
            aria-pressed={only === r.reason}
            onClick={() => choose(only === r.reason ? null : r.reason)}
          >
            {r.reason}
          </button>
          <div aria-hidden style={{ alignSelf: "center" }}>
            <div
              style={{
                width: `${(r.messages / most) * 100}%`,
                minWidth: 2,
                height: 14,
                background: r.counts ? "var(--deep)" : "var(--ochre)",
              }}
            />
          </div>
          <span>
            {count(r.messages)}{" "}
            <span className="soft">
              ({percent(r.messages / s.messages)}), {r.class}
            </span>
          </span>
        </div>
      ))}
    </div>
  );
}

/** What hosts said, over all mailings. */
export function ReasonsPage() {
  const slips = useUpkeepSlips();
  const said = useQuery({ queryKey: ["said"], queryFn: () => ok(api.GET("/api/upkeep/reasons")) });
  const [params, setParams] = useSearchParams();
  const only = params.get("reason");
  const choose = (reason: string | null) => setParams(reason ? { reason } : {}, { replace: true });
  // What is being read otherwise stands in the address: the page opens again as it was left.
  const go = (to: { line?: string; as?: string }) => {
    const next = new URLSearchParams(to);
    if (only) next.set("reason", only);
    setParams(next, { replace: true });
  };
  return (
    <Frame slips={slips}>
      <Loaded query={said}>
        {(s) => {
          const lines = s.lines.filter((l) => !only || l.reason === only);
          const otherwise = s.lines.find((l) => l.line === params.get("line"));
          return (
            <>
              <div className="crumb">
                <span>Upkeep</span>
                <span>90 days</span>
              </div>
              <h1>Reasons</h1>
              <p className="finding">
                <Finding s={s} />
              </p>
              <p className="soft" style={{ maxWidth: "62em" }}>
                Blocks are about us and never count against an address; nor does what can’t be told.
                {s.cut && " Only the newest 200,000 failures are looked at."}
              </p>
              {s.reasons.length > 0 && <Reasons s={s} only={only} choose={choose} />}
              {only && (
                <div className="filters">
                  Only: {only}{" "}
                  <button className="plain" onClick={() => choose(null)}>
                    show all
                  </button>{" "}
                  <span className="soft">
                    {count(lines.length)} of {count(s.lines.length)} lines shown
                  </span>
                </div>
              )}
              {otherwise && (
                <ReadOtherwise
                  key={otherwise.line}
                  line={otherwise.line}
                  read={otherwise.category}
                  chosen={params.get("as")}
                  choose={(as) => go({ line: otherwise.line, ...(as && { as }) })}
                  close={() => go({})}
                />
              )}
              {lines.length > 0 && (
                <DataTable
                  name="What hosts said"
                  rows={lines}
                  id={(l) => `${l.reason}-${l.line}`}
                  dense
                  columns={(col) => [
                    col.text("Line, addresses and numbers masked", (l) => l.line || "(nothing)"),
                    col.text("Read as", (l) => l.reason),
                    col.text("Counts", (l) => (l.counts ? "yes" : "no")),
                    col.number("Messages", (l) => l.messages),
                    col.text(
                      "Said by",
                      (l) =>
                        l.at.map((a) => `${a.domain} ${count(a.messages)}`).join(", ") +
                        (l.domains > l.at.length ? ` and ${count(l.domains - l.at.length)} more` : ""),
                    ),
                    col.day("Last", (l) => l.last_at),
                    col.acts(
                      (l) => (
                        <button className="plain" onClick={() => go({ line: l.line })}>
                          read it otherwise<span className="away">: {l.line}</span>
                        </button>
                      ),
                      { whole: true },
                    ),
                  ]}
                />
              )}
              <Readings />
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
