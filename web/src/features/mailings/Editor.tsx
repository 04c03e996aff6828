import { Button, MenuItem, TextField } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Arm } from "../../shared/Arm";
import { instant, letter } from "../../shared/format";
import { Failure } from "../../shared/states";
import { MailingReactions } from "../reactions/MailingReactions";
import { AudienceSection } from "./Audience";
import { CopyActs } from "./CopyActs";
import type { Draft } from "./draft";
import { Findings } from "./Findings";
import { Labels } from "./Labels";
import { Preview } from "./Preview";
import { Source } from "./Source";
import { SendNow } from "./SendNow";
import { TextMessage } from "./TextMessage";
import { type How, WhenSection } from "./When";

const SECTIONS = [
  ["message", "Message"],
  ["audience", "Audience"],
  ["when", "When"],
] as const;
type Letterhead = Schemas["Letterhead"];
type Section = (typeof SECTIONS)[number][0];

/** The name a variant comes under and where its replies go, where that isn't as the letterhead has it. */
function Senders({ d, setD, usual }: { d: Draft; setD: (d: Draft) => void; usual: Letterhead | undefined }) {
  const senders = d.senders ?? [];
  if (senders.length === 0)
    return (
      <div>
        <button
          className="plain"
          onClick={() => setD({ ...d, senders: d.subjects.map(() => ({ name: "", reply_to: "" })) })}
        >
          {d.subjects.length > 1 ? "Let sender name or reply-to differ by variant" : "Another sender name or reply-to"}
        </button>
      </div>
    );
  const put = (i: number, change: Partial<(typeof senders)[number]>) =>
    setD({
      ...d,
      senders: d.subjects.map((_, j) => ({ ...{ name: "", reply_to: "" }, ...senders[j], ...(j === i ? change : {}) })),
    });
  return (
    <>
      {d.subjects.map((_, i) => (
        <div key={i} style={{ display: "flex", gap: 10, alignItems: "center" }}>
          <Arm index={i} />
          <TextField
            label={`Sender name ${letter(i)}`}
            value={senders[i]?.name ?? ""}
            placeholder={usual?.from_name}
            slotProps={{ inputLabel: { shrink: true } }}
            onChange={(e) => put(i, { name: e.target.value })}
          />
          <TextField
            label={`Replies go to ${letter(i)}`}
            value={senders[i]?.reply_to ?? ""}
            placeholder={usual?.reply_to || usual?.from_address}
            slotProps={{ inputLabel: { shrink: true } }}
            onChange={(e) => put(i, { reply_to: e.target.value })}
          />
        </div>
      ))}
      <div>
        <button className="plain" onClick={() => setD({ ...d, senders: [] })}>
          Take both from the letterhead
        </button>
        <span className="soft small">
          {" "}
          What is left empty comes from the letterhead, and the from address always does.
        </span>
      </div>
    </>
  );
}

function Subjects({ d, setD }: { d: Draft; setD: (d: Draft) => void }) {
  return (
    <>
      {d.subjects.map((s, i) => (
        <div key={i} style={{ display: "flex", gap: 10, alignItems: "center" }}>
          <Arm index={i} />
          <TextField
            label={`Subject ${letter(i)}`}
            value={s}
            onChange={(e) => setD({ ...d, subjects: d.subjects.map((x, j) => (j === i ? e.target.value : x)) })}
          />
        </div>
      ))}
      <div>
        {d.subjects.length < 6 && (
          <button className="plain" onClick={() => setD({ ...d, subjects: [...d.subjects, ""] })}>
            {d.subjects.length < 2 ? "Add a second subject, to try them against each other" : "Add another subject"}
          </button>
        )}
        {d.subjects.length > 1 && (
          <button
            className="plain"
            onClick={() =>
              setD({
                ...d,
                subjects: d.subjects.slice(0, -1),
                senders: (d.senders ?? []).slice(0, d.subjects.length - 1),
              })
            }
          >
            Take subject {letter(d.subjects.length - 1)} out
          </button>
        )}
        {d.subjects.length > 1 && (
          <span className="soft small">
            {" "}
            To try the preheader or the content, keep the subjects alike and write{" "}
            <code>{'{% if variant == "B" %}…{% else %}…{% endif %}'}</code>.
          </span>
        )}
      </div>
      <TextField
        label="Preheader"
        value={d.preheader ?? ""}
        helperText="What inboxes show after the subject"
        onChange={(e) => setD({ ...d, preheader: e.target.value })}
      />
    </>
  );
}

/** Writes a mailing: its message, whom it is for, when it goes. */
export function Editor({
  from,
  id,
  version: loaded,
  labels,
  series,
  beside,
}: {
  from: Draft;
  id: number | null;
  /** The version of the draft that is changed: if somebody saves another meanwhile, that is said. */
  version: number;
  labels: string[];
  /** The series that it is a step of. */
  series: number | null;
  /** What goes along with it. */
  beside?: ReactNode;
}) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const lists = useQuery({ queryKey: ["lists"], queryFn: () => ok(api.GET("/api/lists")) });
  const topics = useQuery({ queryKey: ["topics"], queryFn: () => ok(api.GET("/api/topics")) });
  const letterheads = useQuery({ queryKey: ["letterheads"], queryFn: () => ok(api.GET("/api/letterheads")) });
  const [d, setD] = useState(from);
  const [section, setSection] = useState<Section>("message");
  const [how, setHow] = useState<How>(from.schedule?.local ? "local" : "now");
  const [at, setAt] = useState<number | null>(null);
  const area = useRef<HTMLTextAreaElement>(null);
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
      await client.invalidateQueries();
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
    const el = area.current;
    if (part !== "html" || !el) return;
    const before = d.html
      .split("\n")
      .slice(0, line - 1)
      .join("\n").length;
    const start = line === 1 ? 0 : before + 1;
    el.focus();
    el.setSelectionRange(start, start + (d.html.split("\n")[line - 1]?.length ?? 0));
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
      {letterheads.data?.length === 0 && (
        <p className="note">
          Make a letterhead first: <Link to="/mailings/letterheads/0">New letterhead</Link>. Messages take their sender
          and postal address from it.
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
          {!text && <Senders d={d} setD={setD} usual={usual} />}
        </div>
        {text ? (
          <TextMessage d={d} setD={setD} draft={current} mailing={id} number={usual?.text_number ?? ""} />
        ) : (
          <div className="two" style={{ marginTop: 14 }}>
            <Source d={d} setD={setD} area={area} />
            <Preview draft={current} mailing={id} />
          </div>
        )}
      </div>
      {section === "audience" && <AudienceSection d={current} setD={setD} mailing={id} at={at} />}
      {section === "when" && (
        <WhenSection d={current} setD={setD} how={how} setHow={setHow} at={at} setAt={setAt} mailing={id} />
      )}
      <Findings draft={current} mailing={id} onFix={setD} onLine={toLine} />
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
            onClick={() => save.mutate(how === "now" ? "ask" : "send")}
          >
            {how === "now"
              ? `Send to ${whom} cleared`
              : how === "at"
                ? `Plan it for ${instant(at)} UTC`
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
