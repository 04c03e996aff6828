import { useQuery } from "@tanstack/react-query";
import { type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { NumberBox } from "../../shared/NumberBox";
import { Pick } from "../../shared/Pick";
import { useVocabulary } from "../../shared/useVocabulary";

export type Deed = Schemas["Reaction"]["then"][number];

const DEEDS: [Deed["kind"], string][] = [
  ["score", "points on the score"],
  ["tag", "the tag"],
  ["list", "the list"],
  ["series", "the series"],
  ["field", "set the field"],
  ["webhook", "tell the system"],
  ["task", "ask a person to"],
];

/** What deeds can refer to. */
export function useDeedKnown() {
  const v = useVocabulary().data;
  const webhooks = useQuery(queries.webhooks);
  const scores = useQuery(queries.scores);
  return {
    v,
    scores: scores.data ?? [],
    systems: (webhooks.data ?? []).filter((w) => !w.ended_at),
    ready: !!v && !!scores.data && !!webhooks.data,
  };
}
type Known = ReturnType<typeof useDeedKnown>;

/** A deed as it begins; null where there is nothing to choose from yet. */
export function freshDeed(kind: Deed["kind"], { v, scores, systems }: Known): Deed | null {
  switch (kind) {
    case "score":
      return scores[0] ? { kind, score: scores[0].id, points: 5 } : null;
    case "tag":
      return v?.tags[0] ? { kind, tag: v.tags[0].id, put: true } : null;
    case "list":
      return v?.lists[0] ? { kind, list: v.lists[0].id, put: true } : null;
    case "series":
      return v?.series[0] ? { kind, series: v.series[0].id, put: true } : null;
    case "field":
      return v?.fields[0] ? { kind, field: v.fields[0].id, value: "" } : null;
    case "webhook":
      return systems[0] ? { kind, webhook: systems[0].id } : null;
    case "task":
      return { kind, words: "" };
  }
}

/** A tag or a list, and whether it is put on or taken off. */
function PutOn({
  words: [on, off],
  label,
  put,
  id,
  all = [],
  onChange,
}: {
  words: [string, string];
  label: string;
  put: boolean;
  id: number;
  all: { id: number; name: string }[] | undefined;
  onChange: (put: boolean, id: number) => void;
}) {
  return (
    <>
      <Pick
        label={`${label}: put or take off`}
        value={put ? "put" : "off"}
        options={[
          ["put", on],
          ["off", off],
        ]}
        onChange={(p) => onChange(p === "put", id)}
      />{" "}
      <Pick label={label} value={id} options={all.map((x) => [x.id, x.name])} onChange={(x) => onChange(put, x)} />
    </>
  );
}

/** One thing that is done for somebody, within a sentence. */
export function DeedLine({ deed: d, known, onChange }: { deed: Deed; known: Known; onChange: (next: Deed) => void }) {
  return (
    <>
      {d.kind === "score" && (
        <>
          <NumberBox label="Points" value={d.points} onChange={(points) => onChange({ ...d, points })} /> points on{" "}
          <Pick
            label="Score"
            value={d.score}
            options={known.scores.map((s): [number, string] => [s.id, s.name])}
            onChange={(score) => onChange({ ...d, score })}
          />
        </>
      )}
      {d.kind === "tag" && (
        <PutOn
          words={["put the tag", "take off the tag"]}
          label="Tag"
          put={d.put}
          id={d.tag}
          all={known.v?.tags}
          onChange={(put, tag) => onChange({ ...d, put, tag })}
        />
      )}
      {d.kind === "list" && (
        <PutOn
          words={["put on the list", "take off the list"]}
          label="List"
          put={d.put}
          id={d.list}
          all={known.v?.lists}
          onChange={(put, list) => onChange({ ...d, put, list })}
        />
      )}
      {d.kind === "field" && (
        <>
          set{" "}
          <Pick
            label="Field"
            value={d.field}
            options={(known.v?.fields ?? []).map((f): [number, string] => [f.id, f.name])}
            onChange={(field) => onChange({ ...d, field })}
          />{" "}
          to{" "}
          <input
            className="bare"
            aria-label="Value"
            value={d.value}
            onChange={(e) => onChange({ ...d, value: e.target.value })}
          />
        </>
      )}
      {d.kind === "webhook" && (
        <>
          tell{" "}
          <Pick
            label="System"
            value={d.webhook}
            options={known.systems.map((w): [number, string] => [w.id, w.name])}
            onChange={(webhook) => onChange({ ...d, webhook })}
          />
        </>
      )}
      {d.kind === "task" && (
        <>
          ask a person:{" "}
          <input
            className="bare"
            aria-label="What to do"
            style={{ width: 340 }}
            value={d.words}
            onChange={(e) => onChange({ ...d, words: e.target.value })}
          />
        </>
      )}
      {d.kind === "series" && (
        <PutOn
          words={["put into the series", "take out of the series"]}
          label="Series"
          put={d.put}
          id={d.series}
          all={known.v?.series}
          onChange={(put, series) => onChange({ ...d, put, series })}
        />
      )}
    </>
  );
}

/** A menu of what can be done; what has nothing to choose from yet is said, not offered. */
export function AddDeed({
  label,
  words,
  known,
  add,
}: {
  label: string;
  words: string;
  known: Known;
  add: (deed: Deed) => void;
}) {
  const missing = known.ready ? DEEDS.filter(([kind]) => freshDeed(kind, known) === null) : [];
  return (
    <>
      <select
        className="bare"
        aria-label={label}
        value=""
        onChange={(e) => {
          const deed = freshDeed(e.target.value as Deed["kind"], known);
          if (deed) add(deed);
        }}
      >
        <option value="">{words}</option>
        {DEEDS.filter((d) => !missing.includes(d)).map(([kind, words]) => (
          <option key={kind} value={kind}>
            {words}
          </option>
        ))}
      </select>
      {missing.length > 0 && (
        <span className="soft small"> Nothing to choose yet for {missing.map(([, w]) => w).join(", ")}.</span>
      )}
    </>
  );
}
