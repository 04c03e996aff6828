import { Button, Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Arm } from "../../shared/Arm";
import { count, instant, plural } from "../../shared/format";
import { Failure } from "../../shared/states";
import { MailingReactions } from "../reactions/MailingReactions";
import { Brought } from "./Brought";
import { Companions } from "./Companions";
import { CopyActs } from "./CopyActs";
import { HandOut } from "./HandOut";
import { HowItDid } from "./HowItDid";
import { Labels } from "../../shared/Labels";
import { Links } from "./MailingLinks";
import { Replies } from "./Replies";

type Mailing = Schemas["Mailing"];
type Way = Schemas["Way"];

/** How far it is with each host: what arrived, what waits, what was put off. */
function Progress({ way, text }: { way: Way[]; text: boolean }) {
  const [whole, ...hosts] = way;
  // A text message goes to phones, whatever mail domains their owners have.
  const domains = text ? [] : hosts;
  if (!whole || whole.people === 0) return null;
  const bar = (w: Way) => {
    const parts = [
      [w.accepted, "var(--deep)"],
      [w.waiting + w.handing, "var(--deep-wash)"],
      [w.held + w.deferred, "var(--ochre)"],
      [w.failed + w.stopped, "var(--brick)"],
    ] as const;
    let x = 0;
    return (
      <svg width="200" height="12" aria-hidden="true">
        {parts.map(([n, fill], i) => {
          const width = (200 * n) / w.people;
          const at = x;
          x += width;
          return <rect key={i} x={at} width={width} height="12" fill={fill} />;
        })}
      </svg>
    );
  };
  const soon = whole.next_at !== null && whole.next_at !== undefined;
  return (
    <>
      <h2>{text ? "How far it is" : "How far it is, by mail domain"}</h2>
      <Table size="small">
        <TableHead>
          <TableRow>
            <TableCell>{text ? "" : "Domain"}</TableCell>
            <TableCell />
            <TableCell align="right">Accepted</TableCell>
            <TableCell align="right">To come</TableCell>
            <TableCell align="right">Held</TableCell>
            <TableCell align="right">Put off by the {text ? "network" : "host"}</TableCell>
            <TableCell align="right">Failed</TableCell>
            <TableCell align="right">Not sent</TableCell>
            <TableCell align="right">Next</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {[...domains, whole].map((w, i) => (
            <TableRow key={i}>
              <TableCell>{w === whole ? <b>All</b> : w.domain || "all others"}</TableCell>
              <TableCell>{bar(w)}</TableCell>
              <TableCell align="right">{count(w.accepted)}</TableCell>
              <TableCell align="right">{count(w.waiting + w.handing)}</TableCell>
              <TableCell align="right">{count(w.held)}</TableCell>
              <TableCell align="right">{count(w.deferred)}</TableCell>
              <TableCell align="right">{count(w.failed)}</TableCell>
              <TableCell align="right">{count(w.stopped)}</TableCell>
              <TableCell align="right">{w.next_at ? instant(w.next_at) : "–"}</TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      {soon && <p className="soft small">The last of them is due {instant(whole.last_at)} UTC, as far as is known.</p>}
    </>
  );
}

/** A mailing that is planned, on its way, or out. */
export function OnItsWay({ m }: { m: Mailing }) {
  const moving = m.state === "sending" || m.state === "planned";
  const way = useQuery({
    queryKey: ["way", m.id],
    queryFn: () => ok(api.GET("/api/mailings/{id}/way", { params: { path: { id: m.id } } })),
    refetchInterval: m.state === "sending" ? 2000 : false,
  });
  const outside = useQuery({
    queryKey: ["history", "of", m.id],
    queryFn: () => ok(api.GET("/api/mailings/{id}/outside", { params: { path: { id: m.id } } })),
    enabled: m.state === "sent" || !!m.handed_out,
  }).data;
  const [sure, setSure] = useState(false);
  const act = useMutation({
    mutationFn: async (what: "pause" | "resume" | "cancel") => {
      const params = { path: { id: m.id } };
      if (what === "pause") await ok(api.POST("/api/mailings/{id}/pause", { params }));
      else if (what === "resume") await ok(api.POST("/api/mailings/{id}/resume", { params }));
      else await ok(api.POST("/api/mailings/{id}/cancel", { params }));
    },
    onSuccess: async () => {
      setSure(false);
    },
  });
  const text = m.channel === "text";
  const whole = way.data?.[0];
  const left = whole ? whole.waiting + whole.held + whole.deferred : 0;
  return (
    <>
      <div className="crumb">
        <span>
          {text ? "text message, " : ""}
          {m.state === "series" ? "sent by a series" : outside ? "sent elsewhere" : m.state}
          {m.paused_at ? ", paused" : ""}
        </span>
        {outside ? (
          <Link to="/mailings/elsewhere">its key there: {outside.key}</Link>
        ) : m.series_id == null ? (
          <span>to {m.list ?? ((m.also ?? []).length ? "several groups" : "everyone")}</span>
        ) : (
          <Link to={`/series/${m.series_id}`}>its series</Link>
        )}
      </div>
      <h1>{m.name}</h1>
      <Labels id={m.id} labels={m.labels} />
      {!outside && <Companions m={m} />}
      <p className={m.state === "sent" ? "soft" : "finding"}>
        {m.paused_at ? (
          <>
            It has been <em>paused</em> since {instant(m.paused_at)} UTC: nothing more is handed over.
          </>
        ) : m.state === "planned" ? (
          <>
            It goes out {m.schedule?.local ? "from" : ""} <em>{instant(m.planned_at)}</em> UTC.
          </>
        ) : m.handed_out && m.state === "sending" ? (
          <>People are drawn and cleared here since {instant(m.started_at)} UTC; another system sends it.</>
        ) : m.state === "sending" && whole ? (
          <>
            <em>{count(whole.accepted)}</em> of {plural(whole.people, "person", "people")} have it;{" "}
            {left > 0 ? `${count(left)} are to come.` : "nobody waits."}
          </>
        ) : m.state === "series" && whole ? (
          <>
            A series sends it to people as they come to its step: <em>{count(whole.accepted)}</em> have it
            {left > 0 ? `, ${count(left)} are to come now` : ""}.
          </>
        ) : (
          <>
            It began to go out {instant(m.started_at)} UTC
            {m.finished_at ? ` and was whole ${instant(m.finished_at)}` : ""}.
          </>
        )}
      </p>
      {outside && (
        <p className={outside.opens_unknown ? "note warn" : "soft"} style={{ maxWidth: "50em" }}>
          Another system sends it. Its log tells of {plural(outside.sent, "message")}
          {outside.size != null && outside.size > outside.sent
            ? `, and its table of ${count(outside.size)}: rates are of those that the log tells of`
            : ""}
          .
          {outside.opens_unknown &&
            " The log has no agents, so scanners can’t be taken out: opens are shown as reported only."}
        </p>
      )}
      {!text &&
        m.subjects.map((s, i) =>
          outside && s === "" ? null : (
            <p key={i} style={{ margin: "2px 0" }}>
              <Arm index={i} /> {s} {i === 0 && m.preheader && <span className="soft">{m.preheader}</span>}
            </p>
          ),
        )}
      <div className="acts">
        {moving && !m.paused_at && (
          <Button variant="outlined" disabled={act.isPending} onClick={() => act.mutate("pause")}>
            Pause it
          </Button>
        )}
        {m.paused_at && m.series_id == null && (
          <Button variant="contained" disabled={act.isPending} onClick={() => act.mutate("resume")}>
            Go on with it
          </Button>
        )}
        {moving && !m.trial_id && !sure && (
          <Button variant="outlined" disabled={act.isPending} onClick={() => setSure(true)}>
            {m.state === "planned" ? "Take it back into the drafts" : "Cancel the rest"}
          </Button>
        )}
        {m.trial_id && <Link to={`/trials/${m.trial_id}`}>Its trial</Link>}
        {m.hour_trial_id && <Link to={`/trials/hours/${m.hour_trial_id}`}>Its hour trial</Link>}
        {m.series_id == null && !outside && <Link to={`/clearance/${m.id}`}>Its clearance</Link>}
        <CopyActs id={m.id} name={m.name} state={m.state} template={false} archived={!!m.archived_at} />
      </div>
      {sure && (
        <div className="note" role="alert">
          {m.state === "planned"
            ? "It becomes a draft again, and nobody gets it until it is planned again. "
            : `${plural(left, "person doesn't", "people don't")} get it then, and that can't be undone; what was handed over stays. `}
          <button className="plain" onClick={() => act.mutate("cancel")}>
            {m.state === "planned" ? "Take it back" : `Cancel it for ${count(left)}`}
          </button>{" "}
          <button className="plain" onClick={() => setSure(false)}>
            Leave it as it is
          </button>
        </div>
      )}
      <Failure error={act.error} />
      {m.handed_out && m.state !== "planned" && <HandOut id={m.id} />}
      {m.state !== "planned" && <HowItDid id={m.id} live={m.state === "sending"} />}
      {way.data && !m.handed_out && <Progress way={way.data} text={text} />}
      <Links id={m.id} people={whole?.accepted ?? 0} />
      {m.state !== "planned" && !text && <Brought id={m.id} />}
      <Replies id={m.id} />
      <MailingReactions mailing={m.id} byText={text} />
      <div className={text ? undefined : "two"} hidden={!!outside}>
        {!text && (
          <div>
            <h2>{m.format === "markdown" ? "Markdown" : "HTML"}</h2>
            <pre className="scroll small" tabIndex={0} style={{ whiteSpace: "pre-wrap", maxHeight: 260 }}>
              {m.html}
            </pre>
          </div>
        )}
        <div>
          <h2>{text ? "The message" : "Text"}</h2>
          <pre className="scroll small" tabIndex={0} style={{ whiteSpace: "pre-wrap", maxHeight: 260 }}>
            {m.text || "Made from the message."}
          </pre>
        </div>
      </div>
      <p className="soft small">
        {!text && `${plural(m.subjects.length, "variant")}. `}
        {m.state === "planned"
          ? "To change it, take it back into the drafts."
          : m.state === "series"
            ? "A message of a running series can't change: to say it otherwise, put a copy in its place."
            : "What was sent can't change."}
      </p>
    </>
  );
}
