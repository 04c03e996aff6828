import type { Schemas } from "../../api/client";
import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { type ReactNode } from "react";
import { Link, useSearchParams } from "react-router";
import { count, instant } from "../../shared/format";

type Person = Schemas["Contact"];

type Kind = "ledger" | "messages" | "responses" | "purchases" | "events";
type Happening = { at: number; kind: Kind; what: ReactNode; about: ReactNode; tone: string };
const KINDS: Kind[] = ["ledger", "messages", "responses", "purchases", "events"];

function happenings(p: Person): Happening[] {
  const ledger = p.ledger.map((e): Happening => ({
    at: e.at,
    kind: "ledger",
    what: `${e.channel === "text" ? "text messages: " : ""}${e.kind}${e.topic ? `: ${e.topic}` : ""}${e.until ? ` until ${instant(e.until)}` : ""}`,
    about: `${e.source}${e.person ? `, ${e.person}` : ""}${e.evidence ? `: ${e.evidence}` : ""}`,
    tone: ["retired", "withdrew", "complained", "deleted"].includes(e.kind)
      ? "bad"
      : e.kind === "resting"
        ? "wait"
        : "",
  }));
  const messages = p.messages.map((m): Happening => ({
    at: m.at,
    kind: "messages",
    what: `${m.channel === "text" ? "text message" : "message"} ${m.state}${m.state === "failed" && m.category ? `: ${m.category}` : ""}`,
    about: (
      <>
        <Link to={`/mailings/${m.mailing_id}`}>{m.mailing}</Link>
        {m.channel === "email" && <>, “{m.subject}”</>}
        {m.state === "failed" && m.reply ? <span className="soft"> {m.reply}</span> : null}
      </>
    ),
    tone: m.state === "failed" ? "bad" : "",
  }));
  const responses = p.responses.map((r): Happening => ({
    at: r.at,
    kind: "responses",
    what: `${r.kind}${r.link ? `: ${r.link}` : ""}`,
    about: (
      <>
        {r.mailing} <span className="soft">({r.judged})</span>
        {r.words && <span style={{ display: "block", whiteSpace: "pre-wrap" }}>{r.words}</span>}
      </>
    ),
    tone: r.human ? "" : "soft",
  }));
  const purchases = p.purchases.map((b): Happening => ({
    at: b.at,
    kind: "purchases",
    what: b.cents < 0 ? "gave back" : "bought",
    about: `${b.product}${b.category ? `, ${b.category}` : ""}: ${(b.cents / 100).toFixed(2)} ${b.currency}`,
    tone: "",
  }));
  const events = p.events.map((e): Happening => ({
    at: e.at,
    kind: "events",
    what: e.name,
    about: e.about,
    tone: "",
  }));
  return [...ledger, ...messages, ...responses, ...purchases, ...events].sort((a, b) => b.at - a.at);
}

export function Timeline({ p }: { p: Person }) {
  const [params, setParams] = useSearchParams();
  const only = params.get("only") as Kind | null;
  const all = happenings(p);
  const shown = only ? all.filter((h) => h.kind === only) : all;
  return (
    <>
      <h2>Timeline</h2>
      <div className="filters">
        <span className="switch" role="group" aria-label="What is shown">
          <button aria-pressed={!only} onClick={() => setParams({}, { replace: true })}>
            Everything
          </button>
          {KINDS.map((k) => (
            <button key={k} aria-pressed={only === k} onClick={() => setParams({ only: k }, { replace: true })}>
              {k[0]!.toUpperCase() + k.slice(1)}
            </button>
          ))}
        </span>{" "}
        {count(shown.length)} of {count(all.length)} shown
      </div>
      {shown.length === 0 ? (
        <p className="soft">Nothing of that kind yet.</p>
      ) : (
        <Table>
          <TableHead>
            <TableRow>
              <TableCell>When</TableCell>
              <TableCell>What</TableCell>
              <TableCell>About</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {shown.map((h, i) => (
              <TableRow key={i}>
                <TableCell style={{ whiteSpace: "nowrap" }}>{instant(h.at)}</TableCell>
                <TableCell className={h.tone}>{h.what}</TableCell>
                <TableCell className={h.tone === "soft" ? "soft" : ""}>{h.about}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
    </>
  );
}
