import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Pick } from "../../shared/Pick";
import { Failure } from "../../shared/states";
import { emptyDraft } from "../mailings/draft";
import { DeedLine, freshDeed, useDeedKnown, type Deed } from "../reactions/Deeds";
import { firstWhat, Hours, type Mails, TimeOfDay, What } from "./pieces";
import { Ask } from "./Ask";

type Step = Schemas["SeriesStep"];
type Does = Step["does"];

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
  const mailings = useQuery(queries.mailings);
  const may = (mailings.data ?? []).filter(
    (m) =>
      m.id === value ||
      (!m.template &&
        !m.archived &&
        (m.series_id === series || (m.series_id == null && m.trial_id == null && m.state === "draft"))),
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

export type Common = {
  series: number;
  letterhead: number;
  mails: Mails;
  /** A number no step ever had. */
  number: () => number;
};

function begin(kind: Does["kind"], c: Common): Does {
  const what = firstWhat(c.mails);
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
  return (
    <>
      <Pick
        label="With what"
        value={deed.kind}
        options={DEED_WORDS.filter(([k]) => k === deed.kind || freshDeed(k, known))}
        onChange={(k) => onChange(freshDeed(k, known)!)}
      />
      : <DeedLine deed={deed} known={known} onChange={onChange} />
    </>
  );
}

/** Steps one under the other, each with what can be done to it. */
export function Steps({
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
