import { Button, TextField } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { date, instant, plural } from "../../shared/format";
import { Failure } from "../../shared/states";

type Alert = Schemas["DeliveryAlert"];
type Group = Schemas["DeliveryGroup"];

const TITLE: Record<Alert["kind"], string> = {
  blocked: "lets less of our mail in",
  complaints: "has people who complain",
  opened_less: "opens far less than elsewhere",
};

/** What can be done, beside waiting. */
const ADVICE: Record<Alert["kind"], string> = {
  blocked:
    "Read what the host says; if it names a list or a policy, take it up with its postmaster. Until then it gets less and less mail by itself, or none.",
  complaints:
    "Look at who complains: a source of sign-ups, a list, a subject. Those who complained get nothing more already.",
  opened_less: "Send a mailing to a mailbox of your own there and look where it lands before you change anything.",
};

/** Lets mail to a paused group go on. */
function Resume({ group }: { group: Group }) {
  const resume = useMutation({
    mutationFn: () => ok(api.POST("/api/delivery/resume", { body: { group: group.name } })),
  });
  if (!group.pause) return null;
  return (
    <>
      <Button variant="outlined" size="small" disabled={resume.isPending} onClick={() => resume.mutate()}>
        Let it go on now
      </Button>
      <Failure error={resume.error} />
    </>
  );
}

/** What was done about a group, in a sentence; nothing when nothing was. */
export function done(g: Group) {
  const said = [];
  if (g.pause)
    said.push(
      `${g.pause.by_itself ? "paused itself" : "paused by a person"} until ${instant(g.pause.until)}; ${plural(g.pause.waiting, "message")} wait${g.pause.waiting === 1 ? "s" : ""}`,
    );
  if (g.held_back)
    said.push(
      `held back to ${
        g.held_back.ceiling >= 1
          ? plural(Math.floor(g.held_back.ceiling), "message a minute", "messages a minute")
          : `a message in ${plural(Math.round(1 / g.held_back.ceiling), "minute")}`
      }`,
    );
  return said.join("; ");
}

/** An alert with its evidence, what was done, and what can be done. */
export function AlertNote({ a, group }: { a: Alert; group?: Group }) {
  const [reason, setReason] = useState("");
  const end = useMutation({
    mutationFn: () =>
      ok(api.POST("/api/delivery/alerts/{id}/end", { params: { path: { id: a.id } }, body: { reason } })),
  });
  const open = a.ended_at == null;
  const was = group && done(group);
  return (
    <div className={open ? `note${a.grave ? " bad" : ""}` : "note"} data-alert={a.id}>
      <b>
        {a.group} {TITLE[a.kind]}
      </b>
      , since {date(a.since)} (<Link to={`/mailings/${a.mailing_id}`}>{a.mailing}</Link>). {a.words}
      {was && <> Now {was}.</>}
      {a.lines.length > 0 && (
        <ul style={{ margin: "6px 0", paddingLeft: 18 }}>
          {a.lines.map((l) => (
            <li key={l.line}>
              <i>{l.line}</i> <span className="soft">{plural(l.times, "time")}</span>
            </li>
          ))}
        </ul>
      )}
      {open ? (
        <>
          <p className="soft small" style={{ margin: "6px 0", maxWidth: "62em" }}>
            {ADVICE[a.kind]} It ends by itself after three mailings in a row within limits.
          </p>
          <div className="acts" style={{ margin: "8px 0 2px" }}>
            <TextField
              size="small"
              label="Why it is over"
              value={reason}
              onChange={(e) => setReason(e.target.value)}
              slotProps={{ htmlInput: { maxLength: 500 } }}
              style={{ width: "24em" }}
            />
            <Button
              variant="outlined"
              size="small"
              disabled={end.isPending || reason.trim().length < 5}
              onClick={() => end.mutate()}
            >
              End it
            </Button>
            {group && <Resume group={group} />}
          </div>
        </>
      ) : (
        <p style={{ margin: "6px 0" }} className="soft">
          Ended {instant(a.ended_at)} {a.person ? `by ${a.person}: ${a.reason ?? ""}` : "by itself"}.
        </p>
      )}
      <Failure error={end.error} />
    </div>
  );
}
