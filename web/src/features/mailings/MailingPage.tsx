import { Button, MenuItem, TextField } from "@mui/material";
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { Arm } from "../../shared/Arm";
import { count, instant, plural } from "../../shared/format";
import { CELLS, cellWords } from "../../shared/load";
import { Failure, Loaded } from "../../shared/states";
import { Labels } from "./Labels";
import { useMailingSlips } from "./useMailingSlips";

type Draft = Schemas["MailingDraft"];
type Mailing = Schemas["Mailing"];

const HTML = `<html><body>
<p>Dear {{ given_name|default("friend") }},</p>
<p>…</p>
<p><a href="https://">Read more</a></p>
<p>{{ sender_name }}, {{ postal_address }}<br>
<a href="{{ share_url }}">Open or share in a browser</a>,
<a href="{{ preferences_url }}">choose what you get</a>,
<a href="{{ unsubscribe_url }}">stop these letters</a></p>
</body></html>`;
const TEXT = `Dear {{ given_name|default("friend") }},

…

{{ sender_name }}, {{ postal_address }}
Stop these letters: {{ unsubscribe_url }}
`;

function Findings({ draft }: { draft: Draft }) {
  const late = useDeferredValue(draft);
  const check = useQuery({
    queryKey: ["check", late],
    queryFn: () => ok(api.POST("/api/message-check", { body: late })),
    placeholderData: keepPreviousData,
    enabled: late.letterhead_id > 0,
  });
  const found = check.data ?? [];
  const errors = found.filter((f) => f.level === "error").length;
  return (
    <div data-testid="check">
      <h2>Message check</h2>
      <p className={errors ? "bad" : "soft"}>
        {check.data === undefined
          ? "Checking …"
          : errors
            ? `${plural(errors, "error")}: it can't go yet.`
            : "No errors: it may go."}
      </p>
      {found.map((f, i) => (
        <p key={i} className={f.level === "error" ? "note bad" : "note"}>
          <b>
            {f.part}
            {f.line ? `, line ${f.line}` : ""}
          </b>
          : {f.words}
        </p>
      ))}
    </div>
  );
}

/** What the mailing is to the rules: marketing, or something its recipients expect; and whom it leaves out. */
function Class({ d, setD }: { d: Draft; setD: (d: Draft) => void }) {
  const [service, setService] = useState(!!d.service_reason);
  const [choosing, setChoosing] = useState((d.leave_out ?? []).length > 0);
  const out = d.leave_out ?? [];
  return (
    <>
      <label>
        <input
          type="checkbox"
          checked={service}
          onChange={(e) => {
            setService(e.target.checked);
            if (!e.target.checked) setD({ ...d, service_reason: "", complainers_reason: "" });
          }}
        />{" "}
        A service mailing: its recipients expect it, as they do a receipt, a booking or a security notice
      </label>
      {service && (
        <div className="two">
          <TextField
            label="Why its recipients expect it"
            value={d.service_reason ?? ""}
            helperText="It goes to people without consent, over caps and outside hours, so the reason stays on record"
            onChange={(e) => setD({ ...d, service_reason: e.target.value })}
          />
          <TextField
            label="Why people who complained get it too"
            value={d.complainers_reason ?? ""}
            helperText="Empty: they don't. Only what law requires, and only an approver can say so"
            onChange={(e) => setD({ ...d, complainers_reason: e.target.value })}
          />
        </div>
      )}
      {!service && (
        <div>
          <button className="plain" onClick={() => setChoosing(!choosing)} aria-expanded={choosing}>
            {out.length > 0
              ? `Leaves out people with ${out.map(cellWords).join("; ")}`
              : "Leave out people by their mail load"}
          </button>
          {choosing && (
            <div style={{ marginTop: 6 }}>
              {CELLS.map((cell) => (
                <label key={cell} style={{ display: "inline-block", width: 210 }}>
                  <input
                    type="checkbox"
                    checked={out.includes(cell)}
                    onChange={(e) =>
                      setD({ ...d, leave_out: e.target.checked ? [...out, cell] : out.filter((c) => c !== cell) })
                    }
                  />{" "}
                  {cellWords(cell)}
                </label>
              ))}
            </div>
          )}
        </div>
      )}
    </>
  );
}

function Editor({ from, id, labels }: { from: Draft; id: number | null; labels: string[] }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const segments = useQuery({ queryKey: ["segments"], queryFn: () => ok(api.GET("/api/segments")) });
  const lists = useQuery({ queryKey: ["lists"], queryFn: () => ok(api.GET("/api/lists")) });
  const topics = useQuery({ queryKey: ["topics"], queryFn: () => ok(api.GET("/api/topics")) });
  const letterheads = useQuery({ queryKey: ["letterheads"], queryFn: () => ok(api.GET("/api/letterheads")) });
  const [d, setD] = useState(from);
  const saved = async () =>
    id === null
      ? ok(api.POST("/api/mailings", { body: d }))
      : ok(api.PUT("/api/mailings/{id}", { params: { path: { id } }, body: d }));
  const save = useMutation({
    mutationFn: async (then: "stay" | "trial" | "send") => {
      const m = await saved();
      if (then === "send")
        await ok(api.POST("/api/mailings/{id}/plan", { params: { path: { id: m.id } }, body: { at: null } }));
      return { m, then };
    },
    onSuccess: async ({ m, then }) => {
      await client.invalidateQueries();
      await navigate(then === "trial" ? `/trials/plan/${m.id}` : `/mailings/${m.id}`);
    },
  });
  const pick = (
    label: string,
    value: number | null | undefined,
    options: { id: number; name: string }[],
    none: string,
    set: (v: number | null) => void,
  ) => (
    <TextField
      select
      label={label}
      value={value ?? ""}
      onChange={(e) => set(e.target.value === "" ? null : Number(e.target.value))}
      slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
    >
      <MenuItem value="">{none}</MenuItem>
      {options.map((o) => (
        <MenuItem key={o.id} value={o.id}>
          {o.name}
        </MenuItem>
      ))}
    </TextField>
  );
  const letterheadId = d.letterhead_id || letterheads.data?.[0]?.id || 0;
  const current = { ...d, letterhead_id: letterheadId };
  if (d.letterhead_id === 0 && letterheadId > 0) setD(current);
  return (
    <>
      <div className="crumb">
        <span>Draft</span>
      </div>
      <h1>{from.name || "New mailing"}</h1>
      {id !== null && <Labels id={id} labels={labels} />}
      {letterheads.data?.length === 0 && (
        <p className="note">
          Make a letterhead first: <Link to="/mailings/letterheads/0">New letterhead</Link>. Messages take their sender
          and postal address from it.
        </p>
      )}
      <div className="fields">
        <div className="two">
          <TextField label="Name" value={d.name} onChange={(e) => setD({ ...d, name: e.target.value })} />
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
          {pick("Audience", d.list_id, lists.data ?? [], "Everyone", (v) => setD({ ...d, list_id: v }))}
          {pick("Only those in", d.segment_id ?? null, segments.data ?? [], "No segment", (v) =>
            setD({ ...d, segment_id: v }),
          )}
          {pick("Topic", d.topic_id, topics.data ?? [], "None: leaving ends all mail", (v) =>
            setD({ ...d, topic_id: v }),
          )}
          <TextField
            select
            label="People over a cap"
            value={d.over_cap}
            onChange={(e) => setD({ ...d, over_cap: e.target.value as Draft["over_cap"] })}
          >
            <MenuItem value="hold">are held until every cap allows it</MenuItem>
            <MenuItem value="skip">don't get this mailing</MenuItem>
            <MenuItem value="exceed">get it all the same (an approver says why)</MenuItem>
          </TextField>
          {d.over_cap === "exceed" ? (
            <TextField
              label="Why it may exceed the caps"
              value={d.exceed_reason ?? ""}
              onChange={(e) => setD({ ...d, exceed_reason: e.target.value })}
            />
          ) : (
            <TextField
              label="Held for at most, days"
              value={d.hold_days ?? 7}
              onChange={(e) => setD({ ...d, hold_days: Math.floor(Number(e.target.value) || 0) })}
              slotProps={{ htmlInput: { inputMode: "numeric" } }}
            />
          )}
          <TextField
            select
            label="Priority"
            value={d.priority ?? 3}
            onChange={(e) => setD({ ...d, priority: Number(e.target.value) })}
          >
            <MenuItem value={1}>1, goes first</MenuItem>
            <MenuItem value={2}>2</MenuItem>
            <MenuItem value={3}>3</MenuItem>
            <MenuItem value={4}>4</MenuItem>
            <MenuItem value={5}>5, gives way</MenuItem>
          </TextField>
        </div>
        <Class d={d} setD={setD} />
        {d.subjects.map((s, i) => (
          <div key={i} style={{ display: "flex", gap: 10, alignItems: "center" }}>
            <Arm index={i} />
            <TextField
              label={`Subject ${String.fromCharCode(65 + i)}`}
              value={s}
              onChange={(e) => setD({ ...d, subjects: d.subjects.map((x, j) => (j === i ? e.target.value : x)) })}
            />
          </div>
        ))}
        <div>
          {d.subjects.length < 2 ? (
            <button className="plain" onClick={() => setD({ ...d, subjects: [...d.subjects, ""] })}>
              Add a second subject, to try them against each other
            </button>
          ) : (
            <button className="plain" onClick={() => setD({ ...d, subjects: d.subjects.slice(0, 1) })}>
              Take subject B out
            </button>
          )}
        </div>
      </div>
      <div className="two" style={{ marginTop: 14 }}>
        <label className="small soft">
          HTML
          <textarea
            className="code"
            rows={13}
            spellCheck={false}
            value={d.html}
            onChange={(e) => setD({ ...d, html: e.target.value })}
          />
        </label>
        <label className="small soft">
          Text
          <textarea
            className="code"
            rows={13}
            spellCheck={false}
            value={d.text}
            onChange={(e) => setD({ ...d, text: e.target.value })}
          />
        </label>
      </div>
      <Findings draft={current} />
      <Failure error={save.error} />
      <div className="acts">
        {d.subjects.length > 1 ? (
          <Button variant="contained" disabled={save.isPending} onClick={() => save.mutate("trial")}>
            Plan a trial
          </Button>
        ) : (
          <Button variant="contained" disabled={save.isPending} onClick={() => save.mutate("send")}>
            Send to{" "}
            {[
              lists.data?.find((l) => l.id === d.list_id)?.name,
              segments.data?.find((s) => s.id === d.segment_id)?.name,
            ]
              .filter(Boolean)
              .join(", ") || "everyone"}{" "}
            cleared
          </Button>
        )}
        <Button variant="outlined" disabled={save.isPending} onClick={() => save.mutate("stay")}>
          Save the draft
        </Button>
        {id !== null && <Link to={`/clearance/${id}`}>Who would get it</Link>}
      </div>
    </>
  );
}

function Out({ m }: { m: Mailing }) {
  return (
    <>
      <div className="crumb">
        <span>{m.state}</span>
        <span>to {m.list ?? "everyone"}</span>
      </div>
      <h1>{m.name}</h1>
      <Labels id={m.id} labels={m.labels} />
      <p className="finding">
        {m.state === "planned" ? (
          <>
            It goes out <em>{instant(m.planned_at)}</em> UTC.
          </>
        ) : (
          <>
            It began to go out {instant(m.started_at)} UTC
            {m.finished_at ? ` and was whole ${instant(m.finished_at)}` : ""}.
          </>
        )}
      </p>
      {m.subjects.map((s, i) => (
        <p key={i}>
          <Arm index={i} /> {s}
        </p>
      ))}
      <div className="acts">
        {m.trial_id && <Link to={`/trials/${m.trial_id}`}>Its trial</Link>}
        <Link to={`/clearance/${m.id}`}>Its clearance</Link>
        <Link to="/findings">How it did</Link>
      </div>
      <div className="two">
        <div>
          <h2>HTML</h2>
          <pre className="scroll small" tabIndex={0} style={{ whiteSpace: "pre-wrap" }}>
            {m.html}
          </pre>
        </div>
        <div>
          <h2>Text</h2>
          <pre className="scroll small" tabIndex={0} style={{ whiteSpace: "pre-wrap" }}>
            {m.text}
          </pre>
        </div>
      </div>
      <p className="soft small">
        {count(m.subjects.length)} {m.subjects.length === 1 ? "variant" : "variants"}; what was sent can't change.
      </p>
    </>
  );
}

export function MailingPage() {
  const param = useParams().id;
  const { slips } = useMailingSlips();
  const fresh = param === "new";
  const id = Number(param);
  const mailing = useQuery({
    queryKey: ["mailing", id],
    queryFn: () => ok(api.GET("/api/mailings/{id}", { params: { path: { id } } })),
    enabled: !fresh,
  });
  const empty: Draft = {
    name: "",
    topic_id: null,
    letterhead_id: 0,
    list_id: null,
    segment_id: null,
    over_cap: "hold",
    priority: 3,
    hold_days: 7,
    exceed_reason: "",
    service_reason: "",
    complainers_reason: "",
    leave_out: [],
    html: HTML,
    text: TEXT,
    subjects: [""],
  };
  return (
    <Frame slips={slips}>
      {fresh ? (
        <Editor key="new" from={empty} id={null} labels={[]} />
      ) : (
        <Loaded query={mailing}>
          {(m) => (m.state === "draft" ? <Editor key={m.id} from={m} id={m.id} labels={m.labels} /> : <Out m={m} />)}
        </Loaded>
      )}
    </Frame>
  );
}
