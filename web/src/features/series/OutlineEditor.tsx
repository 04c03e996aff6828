import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { NumberBox } from "../../shared/NumberBox";
import { Pick } from "../../shared/Pick";
import { Failure } from "../../shared/states";
import { useVocabulary } from "../../shared/useVocabulary";
import { clock, minuteOf } from "../clearance/rulesForm";
import { emptyDraft } from "../mailings/draft";
import { DeedLine, useDeedKnown, type Deed } from "../reactions/Deeds";

export type Outline = Schemas["SeriesOutline"];
export type Step = Schemas["SeriesStep"];
type Does = Step["does"];
type Happening = Schemas["SeriesHappening"];
type Question = Schemas["SeriesQuestion"];
type Entry = Schemas["SeriesEntry"];
type Exit = Schemas["SeriesExit"];

/** Hours as hours or as whole days, whichever they are. */
function Hours({ label, value, onChange }: { label: string; value: number; onChange: (n: number) => void }) {
  const days = value >= 24 && value % 24 === 0;
  return (
    <>
      <NumberBox
        label={label}
        min={0}
        value={days ? value / 24 : value}
        onChange={(n) => onChange(Math.max(0, Math.round(n)) * (days ? 24 : 1))}
      />{" "}
      <Pick
        label={`${label}: hours or days`}
        value={days ? "days" : "hours"}
        options={[
          ["hours", "hours"],
          ["days", "days"],
        ]}
        onChange={(unit) =>
          onChange(unit === "days" ? Math.max(1, Math.round(value / 24)) * 24 : Math.max(1, days ? value - 1 : value))
        }
      />
    </>
  );
}

const TimeOfDay = ({ label, value, onChange }: { label: string; value: number; onChange: (m: number) => void }) => (
  <input
    className="bare"
    type="time"
    aria-label={label}
    value={clock(value)}
    onChange={(e) => e.target.value && onChange(minuteOf(e.target.value))}
  />
);

/** Steps that send a message, with its name. */
type Mails = { id: number; name: string }[];

function mailsOf(steps: Step[], names: Map<number, string>): Mails {
  return steps.flatMap((s): Mails => {
    if (s.does.kind === "mail") return [{ id: s.id, name: names.get(s.does.mailing) ?? "a message" }];
    if (s.does.kind === "fork") return [...mailsOf(s.does.yes, names), ...mailsOf(s.does.no, names)];
    return [];
  });
}

/** What somebody does: within a message of the series, or elsewhere. */
function What({ value, mails, onChange }: { value: Happening; mails: Mails; onChange: (next: Happening) => void }) {
  const v = useVocabulary().data;
  const first = mails[0]?.id;
  const kinds: [Happening["kind"], string][] = [
    ...(first
      ? ([
          ["opened", "opens"],
          ["clicked", "clicks in"],
          ["replied", "replies to"],
        ] as [Happening["kind"], string][])
      : []),
    ["bought", "buys"],
    ...(v?.events.length ? ([["event", "has happen"]] as [Happening["kind"], string][]) : []),
    ...(v?.goals.length ? ([["goal", "meets the goal"]] as [Happening["kind"], string][]) : []),
  ];
  const begin = (kind: Happening["kind"]): Happening => {
    switch (kind) {
      case "opened":
      case "replied":
        return { kind, step: first! };
      case "clicked":
        return { kind, step: first!, link: null };
      case "event":
        return { kind, name: v!.events[0]! };
      case "goal":
        return { kind, goal: v!.goals[0]!.id };
      case "bought":
        return { kind, product: null, category: null };
    }
  };
  return (
    <>
      <Pick label="What happens" value={value.kind} options={kinds} onChange={(k) => onChange(begin(k))} />{" "}
      {"step" in value && (
        <Pick
          label="Message"
          value={value.step}
          options={mails.map((m) => [m.id, `“${m.name}”`] as const)}
          onChange={(step) => onChange({ ...value, step })}
        />
      )}
      {value.kind === "event" && <EventPick value={value.name} onChange={(name) => onChange({ ...value, name })} />}
      {value.kind === "goal" && (
        <Pick
          label="Goal"
          value={value.goal}
          options={(v?.goals ?? []).map((g) => [g.id, g.name] as const)}
          onChange={(goal) => onChange({ ...value, goal })}
        />
      )}
      {value.kind === "bought" && <Product value={value} onChange={(b) => onChange({ ...value, ...b })} />}
    </>
  );
}

type Bought = { product?: string | null; category?: string | null };

function Product({ value, onChange }: { value: Bought; onChange: (next: Bought) => void }) {
  const v = useVocabulary().data;
  return (
    <Pick
      label="Product"
      value={value.product ?? (value.category != null ? `c:${value.category}` : "")}
      options={[
        ["", "anything"],
        ...(v?.products ?? []).map((p): [string, string] => [p, p]),
        ...(v?.categories ?? []).map((c): [string, string] => [`c:${c}`, `anything of ${c}`]),
      ]}
      onChange={(p) =>
        onChange({
          product: p && !p.startsWith("c:") ? p : null,
          category: p.startsWith("c:") ? p.slice(2) : null,
        })
      }
    />
  );
}

function EventPick({ value, onChange }: { value: string; onChange: (name: string) => void }) {
  const v = useVocabulary().data;
  return (
    <Pick
      label="Event"
      value={value}
      options={[...new Set([value, ...(v?.events ?? [])])].map((e) => [e, `“${e}”`] as const)}
      onChange={onChange}
    />
  );
}

function SegmentPick({ label, value, onChange }: { label: string; value: number; onChange: (id: number) => void }) {
  const v = useVocabulary().data;
  return (
    <Pick
      label={label}
      value={value}
      options={(v?.segments ?? []).map((s) => [s.id, s.name] as const)}
      onChange={onChange}
    />
  );
}

/** The draft that a step sends: one that is there, or a new one. */
function MailStep({
  value,
  series,
  letterhead,
  onChange,
}: {
  value: number;
  series: number;
  letterhead: number;
  onChange: (mailing: number) => void;
}) {
  const client = useQueryClient();
  const mailings = useQuery({ queryKey: ["mailings"], queryFn: () => ok(api.GET("/api/mailings")) });
  const may = (mailings.data ?? []).filter(
    (m) =>
      m.id === value ||
      (!m.template &&
        !m.archived &&
        m.trial_id == null &&
        (m.series_id === series || (m.series_id == null && m.state === "draft"))),
  );
  const write = useMutation({
    mutationFn: () =>
      ok(
        api.POST("/api/mailings", {
          body: {
            ...emptyDraft,
            name: `Message ${may.length + 1}`,
            letterhead_id: letterhead,
            html: emptyDraft.html.replace(
              '<a href="{{ preferences_url }}">',
              '<a href="{{ leave_series_url }}">leave this series</a>,\n<a href="{{ preferences_url }}">',
            ),
          },
        }),
      ),
    onSuccess: async (made) => {
      await client.invalidateQueries({ queryKey: ["mailings"] });
      onChange(made.id);
    },
  });
  return (
    <>
      send{" "}
      <Pick
        label="Message"
        value={value}
        options={[
          ...(may.some((m) => m.id === value) ? [] : [[value, "choose a message"] as const]),
          ...may.map((m) => [m.id, m.name] as const),
        ]}
        onChange={onChange}
      />{" "}
      {value > 0 && <Link to={`/mailings/${value}`}>open it</Link>}{" "}
      <button className="plain" disabled={write.isPending} onClick={() => write.mutate()}>
        Write a new one
      </button>
      <Failure error={write.error} />
    </>
  );
}

const KINDS: [Does["kind"], string][] = [
  ["mail", "send a message"],
  ["wait", "wait for a time"],
  ["await", "wait until something happens"],
  ["fork", "go one way or the other"],
  ["act", "do something"],
];

type Common = {
  series: number;
  letterhead: number;
  mails: Mails;
  /** A number no step ever had. */
  number: () => number;
};

function begin(kind: Does["kind"], c: Common): Does {
  const what: Happening = c.mails[0]
    ? { kind: "opened", step: c.mails[0].id }
    : { kind: "bought", product: null, category: null };
  switch (kind) {
    case "mail":
      return { kind, mailing: 0 };
    case "wait":
      return { kind, hours: 72, minute: null };
    case "await":
      return { kind, what, hours: 72 };
    case "fork":
      return { kind, on: { kind: "happened", what }, yes: [], no: [] };
    case "act":
      return { kind, deed: { kind: "task", words: "" } };
  }
}

function Ask({ value, mails, onChange }: { value: Question; mails: Mails; onChange: (q: Question) => void }) {
  const v = useVocabulary().data;
  const kinds: [Question["kind"], string][] = [
    ["happened", "somebody who"],
    ...(v?.segments.length ? ([["segment", "somebody in the segment"]] as [Question["kind"], string][]) : []),
    ["share", "a random share of"],
  ];
  return (
    <>
      is it{" "}
      <Pick
        label="What is asked"
        value={value.kind}
        options={kinds}
        onChange={(kind) =>
          onChange(
            kind === "segment"
              ? { kind, segment: v!.segments[0]!.id }
              : kind === "share"
                ? { kind, percent: 50 }
                : {
                    kind,
                    what: mails[0]
                      ? { kind: "opened", step: mails[0].id }
                      : { kind: "bought", product: null, category: null },
                  },
          )
        }
      />{" "}
      {value.kind === "happened" && (
        <>
          <What value={value.what} mails={mails} onChange={(what) => onChange({ ...value, what })} />, since they
          entered
        </>
      )}
      {value.kind === "segment" && (
        <SegmentPick label="Segment" value={value.segment} onChange={(segment) => onChange({ ...value, segment })} />
      )}
      {value.kind === "share" && (
        <>
          <NumberBox
            label="Percent"
            min={1}
            max={99}
            value={value.percent}
            onChange={(percent) => onChange({ ...value, percent })}
          />
          %
        </>
      )}
      ?
    </>
  );
}

function One({ step, common, onChange }: { step: Step; common: Common; onChange: (next: Step) => void }) {
  const known = useDeedKnown();
  const { does } = step;
  const set = (next: Does) => onChange({ ...step, does: next });
  switch (does.kind) {
    case "mail":
      return (
        <MailStep
          value={does.mailing}
          series={common.series}
          letterhead={common.letterhead}
          onChange={(mailing) => set({ ...does, mailing })}
        />
      );
    case "wait":
      return (
        <>
          wait <Hours label="Wait" value={does.hours} onChange={(hours) => set({ ...does, hours })} />{" "}
          <label>
            <input
              type="checkbox"
              checked={does.minute != null}
              onChange={(e) => set({ ...does, minute: e.target.checked ? 540 : null })}
            />{" "}
            then until a time of their day
          </label>{" "}
          {does.minute != null && (
            <TimeOfDay label="Time of day" value={does.minute} onChange={(minute) => set({ ...does, minute })} />
          )}
        </>
      );
    case "await":
      return (
        <>
          wait until somebody{" "}
          <What value={does.what} mails={common.mails} onChange={(what) => set({ ...does, what })} />, at most{" "}
          <Hours label="At most" value={does.hours} onChange={(hours) => set({ ...does, hours })} />
        </>
      );
    case "act":
      return <DeedChoice deed={does.deed} known={known} onChange={(deed) => set({ ...does, deed })} />;
    case "fork":
      return (
        <>
          <Ask value={does.on} mails={common.mails} onChange={(on) => set({ ...does, on })} />
          {(["yes", "no"] as const).map((way) => (
            <div key={way} style={{ borderLeft: "2px solid var(--rule)", margin: "6px 0 6px 4px", paddingLeft: 16 }}>
              <b>{way}</b>
              <Steps
                steps={does[way]}
                label={`${way} of step ${step.id}`}
                common={common}
                onChange={(steps) => set({ ...does, [way]: steps })}
              />
            </div>
          ))}
        </>
      );
  }
}

const DEED_WORDS: [Deed["kind"], string][] = [
  ["task", "ask a person"],
  ["tag", "a tag"],
  ["list", "a list"],
  ["score", "a score"],
  ["field", "a field"],
  ["webhook", "another system"],
];

function DeedChoice({
  deed,
  known,
  onChange,
}: {
  deed: Deed;
  known: ReturnType<typeof useDeedKnown>;
  onChange: (next: Deed) => void;
}) {
  const of: Partial<Record<Deed["kind"], Deed | undefined>> = {
    task: { kind: "task", words: "" },
    tag: known.v?.tags[0] && { kind: "tag", tag: known.v.tags[0].id, put: true },
    list: known.v?.lists[0] && { kind: "list", list: known.v.lists[0].id, put: true },
    score: known.scores[0] && { kind: "score", score: known.scores[0].id, points: 5 },
    field: known.v?.fields[0] && { kind: "field", field: known.v.fields[0].id, value: "" },
    webhook: known.systems[0] && { kind: "webhook", webhook: known.systems[0].id },
  };
  return (
    <>
      <Pick
        label="With what"
        value={deed.kind}
        options={DEED_WORDS.filter(([k]) => of[k] || k === deed.kind)}
        onChange={(k) => onChange(of[k]!)}
      />
      : <DeedLine deed={deed} known={known} onChange={onChange} />
    </>
  );
}

/** Steps one under the other, each with what can be done to it. */
function Steps({
  steps,
  label,
  common,
  onChange,
}: {
  steps: Step[];
  label: string;
  common: Common;
  onChange: (steps: Step[]) => void;
}) {
  const move = (i: number, by: number) => {
    const next = [...steps];
    const [taken] = next.splice(i, 1);
    next.splice(i + by, 0, taken!);
    onChange(next);
  };
  return (
    <ol style={{ listStyle: "none", margin: 0, padding: 0 }} aria-label={label}>
      {steps.map((s, i) => (
        <li key={s.id} style={{ borderTop: "1px solid var(--rule)", padding: "8px 0", display: "flex", gap: 12 }}>
          <div style={{ flex: 1, minWidth: 0 }}>
            <One step={s} common={common} onChange={(n) => onChange(steps.map((x) => (x.id === s.id ? n : x)))} />
          </div>
          <span className="small" style={{ whiteSpace: "nowrap" }}>
            <button className="plain" disabled={i === 0} onClick={() => move(i, -1)}>
              Up<span className="away">: step {s.id}</span>
            </button>
            <button className="plain" disabled={i === steps.length - 1} onClick={() => move(i, 1)}>
              Down<span className="away">: step {s.id}</span>
            </button>
            <button className="plain" onClick={() => onChange(steps.filter((x) => x.id !== s.id))}>
              Take out<span className="away">: step {s.id}</span>
            </button>
          </span>
        </li>
      ))}
      <li style={{ borderTop: "1px solid var(--rule)", padding: "8px 0" }}>
        <select
          className="bare"
          aria-label={`Add a step: ${label}`}
          value=""
          onChange={(e) => {
            if (!e.target.value) return;
            onChange([...steps, { id: common.number(), does: begin(e.target.value as Does["kind"], common) }]);
          }}
        >
          <option value="">{steps.length ? "then …" : "first …"}</option>
          {KINDS.map(([kind, words]) => (
            <option key={kind} value={kind}>
              {words}
            </option>
          ))}
        </select>
      </li>
    </ol>
  );
}

function EntryForm({ value, onChange }: { value: Entry; onChange: (next: Entry) => void }) {
  const v = useVocabulary().data;
  const dates = (v?.fields ?? []).filter((f) => f.kind === "date");
  const kinds: [Entry["kind"], string][] = [
    ["by_hand", "only who is put in, by a person or a reaction"],
    ...(v?.segments.length ? ([["segment", "whoever joins the segment"]] as [Entry["kind"], string][]) : []),
    ["bought", "whoever buys"],
    ...(v?.events.length ? ([["event", "whoever has happen"]] as [Entry["kind"], string][]) : []),
    ...(dates.length ? ([["date", "on a date of theirs"]] as [Entry["kind"], string][]) : []),
  ];
  const begin = (kind: Entry["kind"]): Entry => {
    switch (kind) {
      case "segment":
        return { kind, segment: v!.segments[0]!.id, those_in_it: false };
      case "bought":
        return { kind, product: null, category: null };
      case "event":
        return { kind, name: v!.events[0]! };
      case "date":
        return { kind, field: dates[0]!.id, days: 0, minute: 540, yearly: true };
      case "by_hand":
        return { kind };
    }
  };
  return (
    <>
      <Pick label="Who enters" value={value.kind} options={kinds} onChange={(k) => onChange(begin(k))} />{" "}
      {value.kind === "segment" && (
        <>
          <SegmentPick label="Segment" value={value.segment} onChange={(segment) => onChange({ ...value, segment })} />{" "}
          <label>
            <input
              type="checkbox"
              checked={value.those_in_it}
              onChange={(e) => onChange({ ...value, those_in_it: e.target.checked })}
            />{" "}
            those who are in it when the series starts, too
          </label>
        </>
      )}
      {value.kind === "bought" && <Product value={value} onChange={(b) => onChange({ ...value, ...b })} />}
      {value.kind === "event" && <EventPick value={value.name} onChange={(name) => onChange({ ...value, name })} />}
      {value.kind === "date" && (
        <>
          <Pick
            label="Field"
            value={value.field}
            options={dates.map((f) => [f.id, f.name] as const)}
            onChange={(field) => onChange({ ...value, field })}
          />
          ,{" "}
          <NumberBox
            label="Days after (before: negative)"
            value={value.days}
            onChange={(d) => onChange({ ...value, days: Math.round(d) })}
          />{" "}
          days after it (before: negative), at{" "}
          <TimeOfDay label="Entry time" value={value.minute} onChange={(minute) => onChange({ ...value, minute })} />{" "}
          <label>
            <input
              type="checkbox"
              checked={value.yearly}
              onChange={(e) => onChange({ ...value, yearly: e.target.checked })}
            />{" "}
            each year
          </label>
        </>
      )}
    </>
  );
}

function ExitForm({ value, mails, onChange }: { value: Exit; mails: Mails; onChange: (next: Exit) => void }) {
  const v = useVocabulary().data;
  const kinds: [Exit["kind"], string][] = [
    ["happened", "whoever"],
    ...(v?.topics.length ? ([["topic_left", "whoever leaves the topic"]] as [Exit["kind"], string][]) : []),
    ...(v?.segments.length
      ? ([["segment_left", "whoever is no longer in the segment"]] as [Exit["kind"], string][])
      : []),
  ];
  return (
    <>
      <Pick
        label="Out early"
        value={value.kind}
        options={kinds}
        onChange={(kind) =>
          onChange(
            kind === "topic_left"
              ? { kind, topic: v!.topics[0]!.id }
              : kind === "segment_left"
                ? { kind, segment: v!.segments[0]!.id }
                : { kind, what: { kind: "bought", product: null, category: null } },
          )
        }
      />{" "}
      {value.kind === "happened" && (
        <What value={value.what} mails={mails} onChange={(what) => onChange({ ...value, what })} />
      )}
      {value.kind === "topic_left" && (
        <Pick
          label="Topic"
          value={value.topic}
          options={(v?.topics ?? []).map((t) => [t.id, t.name] as const)}
          onChange={(topic) => onChange({ ...value, topic })}
        />
      )}
      {value.kind === "segment_left" && (
        <SegmentPick label="Segment" value={value.segment} onChange={(segment) => onChange({ ...value, segment })} />
      )}
    </>
  );
}

const day = (ms: number | null | undefined) => (ms == null ? "" : new Date(ms).toISOString().slice(0, 10));
const ofDay = (text: string) => (text ? Date.parse(`${text}T00:00:00Z`) : null);

/** The whole outline, to be changed. */
export function OutlineEditor({
  outline: o,
  common,
  onChange,
}: {
  outline: Outline;
  common: Omit<Common, "mails">;
  onChange: (next: Outline) => void;
}) {
  const mailings = useQuery({ queryKey: ["mailings"], queryFn: () => ok(api.GET("/api/mailings")) });
  const names = new Map((mailings.data ?? []).map((m) => [m.id, m.name]));
  const mails = mailsOf(o.steps, names);
  return (
    <div style={{ maxWidth: 900 }}>
      <h2>Who enters</h2>
      <p>
        <EntryForm value={o.entry} onChange={(entry) => onChange({ ...o, entry })} />
      </p>
      <p>
        Somebody who was in it enters{" "}
        <Pick
          label="Again"
          value={o.again.kind}
          options={[
            ["never", "once only"],
            ["after", "again after a time"],
            ["always", "again each time"],
          ]}
          onChange={(kind) => onChange({ ...o, again: kind === "after" ? { kind, days: 90 } : { kind } })}
        />{" "}
        {o.again.kind === "after" && (
          <>
            <NumberBox
              label="Days until again"
              min={1}
              value={o.again.days}
              onChange={(d) => onChange({ ...o, again: { kind: "after", days: Math.max(1, Math.round(d)) } })}
            />{" "}
            days
          </>
        )}
        . Open from{" "}
        <input
          className="bare"
          type="date"
          aria-label="Open from"
          value={day(o.from)}
          onChange={(e) => onChange({ ...o, from: ofDay(e.target.value) })}
        />{" "}
        until{" "}
        <input
          className="bare"
          type="date"
          aria-label="Open until"
          value={day(o.until)}
          onChange={(e) => onChange({ ...o, until: ofDay(e.target.value) })}
        />{" "}
        <span className="soft">(UTC; empty: no limit. Those inside go on.)</span>
      </p>
      <h2>Steps</h2>
      <Steps
        steps={o.steps}
        label="Steps"
        common={{ ...common, mails }}
        onChange={(steps) => onChange({ ...o, steps })}
      />
      <h2>Out before the end</h2>
      {o.exits.map((exit, i) => (
        <p key={i}>
          <ExitForm
            value={exit}
            mails={mails}
            onChange={(n) => onChange({ ...o, exits: o.exits.map((x, k) => (k === i ? n : x)) })}
          />{" "}
          <button className="plain" onClick={() => onChange({ ...o, exits: o.exits.filter((_, k) => k !== i) })}>
            Take out<span className="away">: exit {i + 1}</span>
          </button>
        </p>
      ))}
      <Button
        variant="outlined"
        size="small"
        onClick={() =>
          onChange({
            ...o,
            exits: [...o.exits, { kind: "happened", what: { kind: "bought", product: null, category: null } }],
          })
        }
      >
        Add an exit
      </Button>
    </div>
  );
}
