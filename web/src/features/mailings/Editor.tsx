import { Button, Checkbox, FormControlLabel, MenuItem, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { type ReactNode, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, ok } from "../../api/client";
import { queries } from "../../api/queries";
import { instant } from "../../shared/format";
import { Failure } from "../../shared/states";
import { MailingReactions } from "../reactions/MailingReactions";
import { AudienceSection } from "./Audience";
import { CopyActs } from "./CopyActs";
import type { Draft } from "./draft";
import { Findings } from "./Findings";
import { Labels } from "../../shared/Labels";
import { Preview } from "./Preview";
import type { CodeHandle } from "../../shared/CodeArea";
import { Source } from "./Source";
import { Hosts } from "./Hosts";
import { SendNow } from "./SendNow";
import { TextMessage } from "./TextMessage";
import { howOf, type How, WhenSection } from "./When";
import { Senders, Subjects } from "./Variants";

const SECTIONS = [
  ["message", "Message"],
  ["audience", "Audience"],
  ["when", "When"],
] as const;
type Section = (typeof SECTIONS)[number][0];

/** Writes a mailing: its message, whom it is for, when it goes. */
export function Editor({
  from,
  id,
  version: loaded,
  labels,
  series,
  hours,
  beside,
}: {
  from: Draft;
  id: number | null;
  /** The version of the draft that is changed: if somebody saves another meanwhile, that is said. */
  version: number;
  labels: string[];
  /** The series that it is a step of. */
  series: number | null;
  /** The hour trial that it is a round of. */
  hours: number | null;
  /** What goes along with it. */
  beside?: ReactNode;
}) {
  const navigate = useNavigate();
  const lists = useQuery(queries.lists);
  const topics = useQuery(queries.topics);
  const letterheads = useQuery(queries.letterheads);
  const [d, setD] = useState(from);
  const [section, setSection] = useState<Section>("message");
  const [how, setHow] = useState<How>(howOf(from.schedule));
  const [at, setAt] = useState<number | null>(null);
  const area = useRef<CodeHandle>(null);
  // The draft, once it was saved; and what is asked about before it goes out at once.
  const [made, setMade] = useState(id);
  const [version, setVersion] = useState(loaded);
  const [asked, setAsked] = useState<Draft | null>(null);
  const save = useMutation({
    mutationFn: async (then: "stay" | "trial" | "ask" | "send") => {
      const m =
        made === null
          ? await ok(api.POST("/api/mailings", { body: d }))
          : await ok(
              api.PUT("/api/mailings/{id}", {
                params: { path: { id: made }, header: { "if-match": `"${version}"` } },
                body: d,
              }),
            );
      setMade(m.id);
      setVersion(m.version);
      if (then === "send")
        await ok(api.POST("/api/mailings/{id}/plan", { params: { path: { id: m.id } }, body: { at } }));
      return { m, then };
    },
    onSuccess: async ({ m, then }) => {
      if (then === "ask") return setAsked(d);
      await navigate(
        then !== "trial" ? `/mailings/${m.id}` : m.trial_id ? `/trials/${m.trial_id}` : `/trials/plan/${m.id}`,
      );
    },
  });
  const letterheadId = d.letterhead_id || letterheads.data?.[0]?.id || 0;
  const current = { ...d, letterhead_id: letterheadId };
  if (d.letterhead_id === 0 && letterheadId > 0) setD(current);
  const toLine = (part: string, line: number) => {
    setSection("message");
    if (part === "html") area.current?.toLine(line);
  };
  const text = d.channel === "text";
  const usual = letterheads.data?.find((l) => l.id === letterheadId);
  const whom = (d.also ?? []).length > 0 ? "those" : (lists.data?.find((l) => l.id === d.list_id)?.name ?? "everyone");
  return (
    <>
      <div className="crumb">
        <span>
          {d.template ? "Template" : "Draft"}
          {text ? ", text message" : ""}
        </span>
      </div>
      <h1>{from.name || (text ? "New text message" : "New mailing")}</h1>
      {id !== null && <Labels id={id} labels={labels} />}
      {beside}
      {hours !== null && (
        <p className="note">
          It is a round of an <Link to={`/trials/hours/${hours}`}>hour trial</Link>: each person gets it at the hour
          they are drawn to. Plan it before the draw, and change its subject no more.
        </p>
      )}
      {letterheads.data?.length === 0 && (
        <p className="note">
          Make a letterhead first: <Link to="/setup/letterheads/0">New letterhead</Link>. Messages take their sender and
          postal address from it.
        </p>
      )}
      {series === null ? (
        <span className="switch" role="group" aria-label="What is written" style={{ margin: "6px 0 14px" }}>
          {SECTIONS.map(([s, words]) => (
            <button key={s} aria-pressed={s === section} onClick={() => setSection(s)}>
              {words}
            </button>
          ))}
        </span>
      ) : (
        <p className="note">
          A step of <Link to={`/series/${series}`}>its series</Link>: it goes to people one by one, as they come to it.
          With several subjects, plan a trial: it decides who gets which.
        </p>
      )}
      <div hidden={section !== "message"}>
        <div className="fields">
          <div className="two">
            <TextField label="Name" value={d.name} onChange={(e) => setD({ ...d, name: e.target.value })} />
            <div style={{ display: "flex", gap: 10 }}>
              <TextField
                select
                label="Letterhead"
                value={letterheadId || ""}
                onChange={(e) => setD({ ...d, letterhead_id: Number(e.target.value) })}
              >
                {(letterheads.data ?? []).map((l) => (
                  <MenuItem key={l.id} value={l.id}>
                    {l.name}
                  </MenuItem>
                ))}
              </TextField>
              <TextField
                select
                label="Topic"
                value={d.topic_id ?? ""}
                onChange={(e) => setD({ ...d, topic_id: e.target.value === "" ? null : Number(e.target.value) })}
                slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
              >
                <MenuItem value="">{text ? "None" : "None: leaving ends all mail"}</MenuItem>
                {(topics.data ?? []).map((t) => (
                  <MenuItem key={t.id} value={t.id}>
                    {t.name}
                  </MenuItem>
                ))}
              </TextField>
            </div>
          </div>
          {!text && <Subjects d={d} setD={setD} />}
          {!text && !d.handed_out && <Senders d={d} setD={setD} usual={usual} />}
          {!text && series === null && hours === null && (
            <FormControlLabel
              control={
                <Checkbox
                  checked={d.handed_out ?? false}
                  onChange={(e) => setD({ ...d, handed_out: e.target.checked })}
                />
              }
              label="Another system sends it: people are drawn, cleared and handed out here"
            />
          )}
        </div>
        {d.handed_out ? (
          <p className="note" style={{ maxWidth: "50em" }}>
            The message is written there. A subject here names an arm: with two or more, plan a trial of them.
          </p>
        ) : text ? (
          <TextMessage d={d} setD={setD} draft={current} mailing={id} number={usual?.text_number ?? ""} />
        ) : (
          <div className="two" style={{ marginTop: 14 }}>
            <Source d={d} setD={setD} draft={current} mailing={id} area={area} />
            <Preview draft={current} mailing={id} />
          </div>
        )}
      </div>
      {section === "audience" && <AudienceSection d={current} setD={setD} mailing={id} at={at} />}
      {section === "when" && hours !== null && <p className="soft">The trial says when: see its rounds.</p>}
      {section === "when" && hours === null && (
        <WhenSection d={current} setD={setD} how={how} setHow={setHow} at={at} setAt={setAt} mailing={id} />
      )}
      {section === "when" && id !== null && !d.template && d.channel === "email" && !d.handed_out && (
        <Hosts mailing={id} />
      )}
      {!d.handed_out && <Findings draft={current} mailing={id} onFix={setD} onLine={toLine} />}
      <Failure error={save.error} />
      {made !== null && asked === d && how === "now" && (
        <SendNow mailing={made} busy={save.isPending} send={() => save.mutate("send")} stay={() => setAsked(null)} />
      )}
      <div className="acts">
        {d.template || (series !== null && d.subjects.length === 1) ? null : d.subjects.length > 1 ? (
          <Button
            variant={series === null ? "contained" : "outlined"}
            disabled={save.isPending}
            onClick={() => save.mutate("trial")}
          >
            Plan a trial
          </Button>
        ) : (
          <Button
            variant="contained"
            disabled={save.isPending || (how === "now" && asked === d)}
            onClick={() => save.mutate(how === "now" && !d.handed_out ? "ask" : "send")}
          >
            {hours !== null
              ? "Plan it as the round"
              : how === "now"
                ? `${d.handed_out ? "Hand out" : "Send to"} ${whom} cleared`
                : how === "at"
                  ? `Plan it for ${instant(at)} UTC`
                  : how === "best" || how === "own"
                    ? `Plan it for ${how === "own" ? "each person’s hour" : "the best hour"}`
                    : "Plan it for everyone's own hour"}
          </Button>
        )}
        <Button variant="outlined" disabled={save.isPending} onClick={() => save.mutate("stay")}>
          Save the {d.template ? "template" : "draft"}
        </Button>
        {id !== null && series === null && <Link to={`/clearance/${id}`}>Who would get it</Link>}
        {id !== null && (
          <CopyActs id={id} name={from.name} state="draft" template={d.template ?? false} archived={false} />
        )}
      </div>
      {id !== null && !d.template && <MailingReactions mailing={id} byText={text} />}
    </>
  );
}
