import { Button, TextField } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { count, instant, percent, plural } from "../../shared/format";
import { Failure } from "../../shared/states";

type Incident = Schemas["Incident"];

const NORM: Record<Incident["norm_of"], string> = {
  group: "there in the 90 days before",
  base: "in the whole base in the 90 days before: there was too little mail there",
  usual: "by our guess: too little was sent before",
};

/** An incident with what hosts said, and its two answers. */
export function IncidentNote({ i }: { i: Incident }) {
  const [reason, setReason] = useState("");
  const decide = useMutation({
    mutationFn: (counts: boolean | null) =>
      ok(
        api.POST("/api/upkeep/incidents/{id}", {
          params: { path: { id: i.id } },
          body: { counts, reason },
        }),
      ),
  });
  const waits = i.counts == null;
  const usual = i.norm_messages > 0 ? percent(i.norm_failures / i.norm_messages) : "none";
  return (
    <div className={waits ? "note bad" : "note"} data-incident={i.id}>
      <b>{waits ? "An incident waits for you. " : i.counts ? "Counted. " : "Not counted. "}</b>
      {count(i.failures)} of {plural(i.messages, "message")} to {i.place}
      {i.domains > 1 && ` (${count(i.domains)} domains whose mail its hosts take)`} failed on{" "}
      <Link to={`/mailings/${i.mailing_id}`}>{i.mailing}</Link>, {instant(i.first_at)} to {instant(i.last_at)}. Usually{" "}
      {usual} do ({count(i.norm_failures)} of {count(i.norm_messages)}, {NORM[i.norm_of]}).
      <ul style={{ margin: "6px 0", paddingLeft: 18 }}>
        {i.lines.map((l) => (
          <li key={l.line}>
            <i>{l.line}</i> <span className="soft">{plural(l.times, "time")}</span>
          </li>
        ))}
      </ul>
      {waits ? (
        <>
          <p style={{ margin: "6px 0" }}>
            None of it counts against the addresses until you say so. If the host was at fault, it doesn’t count; if
            these addresses are gone, it does. It can be said otherwise later.
          </p>
          <div className="acts" style={{ margin: "10px 0 4px" }}>
            <TextField
              size="small"
              label="Why"
              value={reason}
              onChange={(e) => setReason(e.target.value)}
              slotProps={{ htmlInput: { maxLength: 500 } }}
              style={{ width: "26em" }}
            />
            <Button variant="contained" size="small" disabled={decide.isPending} onClick={() => decide.mutate(false)}>
              They don’t count
            </Button>
            <Button variant="outlined" size="small" disabled={decide.isPending} onClick={() => decide.mutate(true)}>
              Count them
            </Button>
          </div>
        </>
      ) : (
        <p style={{ margin: "6px 0" }} className="soft">
          Decided {instant(i.decided_at)} by {i.person ?? "somebody"}
          {i.reason && `: ${i.reason}`}.{" "}
          <button className="plain" disabled={decide.isPending} onClick={() => decide.mutate(null)}>
            Take the decision back<span className="away"> on {i.place}</span>
          </button>
        </p>
      )}
      <Failure error={decide.error} />
    </div>
  );
}
