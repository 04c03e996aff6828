import { Button, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { AsOf } from "../../shared/AsOf";
import { count, instant, percent, plural } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Failure, Loaded } from "../../shared/states";
import { useClearanceSlips } from "./useClearanceSlips";
import { MomentPick } from "../../shared/Moment";

type Domain = Schemas["DomainRow"];
const SHOWN = 20;

/** Lets nothing go to a domain for a while. */
function Pause() {
  const [d, setD] = useState({ domain: "", until: null as number | null, reason: "" });
  const pause = useMutation({
    mutationFn: () =>
      ok(
        api.POST("/api/domains/pauses", {
          body: { domain: d.domain, until: d.until!, reason: d.reason },
        }),
      ),
    onSuccess: () => {
      setD({ domain: "", until: null as number | null, reason: "" });
    },
  });
  return (
    <>
      <h2>Pause a domain</h2>
      <p style={{ maxWidth: "46em" }}>
        Messages to its people wait, service mail too, and are cleared again at the end. Marketing that would wait
        longer than its mailing holds isn&apos;t sent.
      </p>
      <div className="fields" style={{ maxWidth: 620 }}>
        <div className="two">
          <TextField label="Domain" value={d.domain} onChange={(e) => setD({ ...d, domain: e.target.value })} />
          <MomentPick label="Until (UTC)" value={d.until} onChange={(until) => setD({ ...d, until })} />
        </div>
        <TextField
          label="Why"
          value={d.reason}
          onChange={(e) => setD({ ...d, reason: e.target.value })}
          helperText="Told to everybody who looks up a message that waits."
        />
      </div>
      <Failure error={pause.error} />
      <div className="acts">
        <Button
          variant="contained"
          disabled={!d.domain.trim() || !d.until || pause.isPending}
          onClick={() => pause.mutate()}
        >
          Pause it
        </Button>
      </div>
    </>
  );
}

/** A share of what was handed over. */
function Share({ of, all }: { of: number; all: number }) {
  return (
    <>
      {count(of)} {all > 0 && of > 0 && <span className="soft">{percent(of / all)}</span>}
    </>
  );
}

function Finding({ rows }: { rows: Domain[] }) {
  const paused = rows.filter((d) => d.pause);
  const held = paused.reduce((n, d) => n + (d.pause?.held ?? 0), 0);
  if (paused.length === 0)
    return (
      <p className="finding">
        <em>No domain</em> is paused: mail goes to all of them.
      </p>
    );
  return (
    <p className="finding">
      <em>{plural(paused.length, "domain")}</em> {paused.length === 1 ? "gets" : "get"} nothing for now
      {held > 0 && `; ${plural(held, "message")} ${held === 1 ? "waits" : "wait"}`}.
    </p>
  );
}

/** Mail domains: how they took the mail of 30 days, and which are paused. */
export function DomainsPage() {
  const { slips } = useClearanceSlips();
  const domains = useQuery(queries.domains);
  const resume = useMutation({
    mutationFn: (id: number) => ok(api.DELETE("/api/domains/{id}/pause", { params: { path: { id } } })),
  });
  return (
    <Frame slips={slips}>
      <Loaded query={domains}>
        {(rows) => (
          <>
            <div className="crumb">
              <span>Clearance</span>
            </div>
            <h1>Domains</h1>
            <AsOf of="/api/domains" />
            <Finding rows={rows} />
            <Failure error={resume.error} />
            {rows
              .filter((d) => d.pause)
              .map((d) => (
                <p className="note" key={d.id}>
                  <b>{d.name}</b> gets nothing until {instant(d.pause!.until)} UTC: {d.pause!.reason}{" "}
                  <span className="soft">
                    {d.pause!.by && `${d.pause!.by}, `}
                    {instant(d.pause!.made_at)}; {plural(d.pause!.held, "message")} waiting.
                  </span>{" "}
                  <button className="plain" disabled={resume.isPending} onClick={() => resume.mutate(d.id)}>
                    Let mail go again
                  </button>
                </p>
              ))}
            <Pause />
            <h2>The last 30 days</h2>
            <DataTable
              name="Domains"
              rows={rows}
              first={SHOWN}
              id={(d) => d.id}
              columns={(col) => [
                col.text("Domain", (d) => d.name),
                col.number("People", (d) => d.people),
                col.number("Handed over", (d) => d.handed),
                col.shown(
                  "Accepted",
                  (d) => d.accepted,
                  (d) => <Share of={d.accepted} all={d.handed} />,
                  { num: true },
                ),
                col.shown(
                  "Put off, to be tried again",
                  (d) => d.deferred,
                  (d) => <Share of={d.deferred} all={d.handed} />,
                  { num: true },
                ),
                col.shown(
                  "Failed",
                  (d) => d.failed,
                  (d) => <Share of={d.failed} all={d.handed} />,
                  { num: true },
                ),
              ]}
            />
          </>
        )}
      </Loaded>
    </Frame>
  );
}
