import { Button } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { NumberBox } from "../../shared/NumberBox";
import { Pick } from "../../shared/Pick";
import { ProductPick } from "../../shared/ProductPick";
import { useVocabulary } from "../../shared/useVocabulary";
import { EventPick, type Mails, mailsOf, SegmentPick, TimeOfDay, What } from "./pieces";
import { type Common, Steps } from "./Steps";
import { DayPick } from "../../shared/Moment";
import { DAY } from "../../shared/time";

export type Outline = Schemas["SeriesOutline"];
type Entry = Schemas["SeriesEntry"];
type Exit = Schemas["SeriesExit"];

function EntryForm({ value, onChange }: { value: Entry; onChange: (next: Entry) => void }) {
  const v = useVocabulary().data;
  const dates = (v?.fields ?? []).filter((f) => f.kind === "date");
  const kinds: [Entry["kind"], string][] = [
    ["by_hand", "only who is put in, by a person or a reaction"],
    ...(v?.segments.length ? ([["segment", "everybody who joins the segment"]] as [Entry["kind"], string][]) : []),
    ["bought", "everybody who buys"],
    ...(v?.events.length ? ([["event", "everybody who has happen"]] as [Entry["kind"], string][]) : []),
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
      {value.kind === "bought" && <ProductPick value={value} onChange={(b) => onChange({ ...value, ...b })} />}
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
    ["happened", "everybody who"],
    ...(v?.topics.length ? ([["topic_left", "everybody who leaves the topic"]] as [Exit["kind"], string][]) : []),
    ...(v?.segments.length
      ? ([["segment_left", "everybody who is no longer in the segment"]] as [Exit["kind"], string][])
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

const day = (ms: number | null | undefined) => (ms == null ? null : Math.floor(ms / DAY));
const ofDay = (day: number | null) => (day === null ? null : day * DAY);

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
  const mailings = useQuery(queries.mailings);
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
        <DayPick inline label="Open from" value={day(o.from)} onChange={(d) => onChange({ ...o, from: ofDay(d) })} />{" "}
        until{" "}
        <DayPick inline label="Open until" value={day(o.until)} onChange={(d) => onChange({ ...o, until: ofDay(d) })} />{" "}
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
