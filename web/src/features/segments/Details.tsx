import { useMutation } from "@tanstack/react-query";
import { api, ok } from "../../api/client";
import { CELLS, cellWords } from "../../shared/load";
import { LinkOf, Pick } from "../../shared/Pick";
import { NumberBox } from "../../shared/NumberBox";
import { Failure } from "../../shared/states";
import { fromDay, type Leaf, toDay, type Vocabulary } from "./leaf";

export type Change<T> = (next: T) => void;
/** The international mile, as the server counts it. */
const KM_PER_MILE = 1.609344;
const COMPARE = [
  ["over", "more than"],
  ["at_least", "at least"],
  ["equal", "exactly"],
  ["at_most", "at most"],
  ["under", "less than"],
] as const;

function Words({
  label,
  value,
  onChange,
  known,
}: {
  label: string;
  value: string;
  onChange: Change<string>;
  known?: string[];
}) {
  const id = known && `known-${label.replaceAll(" ", "-")}`;
  return (
    <>
      <input
        className="bare"
        aria-label={label}
        style={{ width: 190 }}
        list={id}
        value={value}
        onChange={(e) => onChange(e.target.value)}
      />
      {known && (
        <datalist id={id}>
          {known.map((k) => (
            <option key={k} value={k} />
          ))}
        </datalist>
      )}
    </>
  );
}

/** "ever", or "in the last n days". */
function Within({ value, onChange }: { value: number | null | undefined; onChange: Change<number | null> }) {
  return (
    <>
      <Pick
        label="When"
        value={value == null ? "ever" : "within"}
        options={[
          ["ever", "ever"],
          ["within", "in the last"],
        ]}
        onChange={(w) => onChange(w === "ever" ? null : 90)}
      />
      {value != null && (
        <>
          <NumberBox label="Days" value={value} onChange={(n) => onChange(Math.max(0, Math.round(n)))} /> days
        </>
      )}
    </>
  );
}

type TimesOf = Extract<Leaf, { kind: "received" }>["times"];
function Times({ value, onChange, of = "messages" }: { value: TimesOf; onChange: Change<TimesOf>; of?: string }) {
  const most = "at_most" in value;
  const n = "at_most" in value ? value.at_most : value.at_least;
  const make = (atMost: boolean, k: number): TimesOf => {
    const whole = Math.max(0, Math.round(k));
    return atMost ? { at_most: whole } : { at_least: whole };
  };
  return (
    <>
      <Pick
        label="At least or at most"
        value={most ? "most" : "least"}
        options={[
          ["least", "at least"],
          ["most", "at most"],
        ]}
        onChange={(w) => onChange(make(w === "most", n))}
      />
      <NumberBox label={of[0]!.toUpperCase() + of.slice(1)} value={n} onChange={(k) => onChange(make(most, k))} /> {of}
    </>
  );
}

function Boxes<T extends string>({ all, value, onChange }: { all: T[]; value: T[]; onChange: Change<T[]> }) {
  return (
    <>
      {all.map((s) => (
        <label key={s} style={{ marginRight: 8 }}>
          <input
            type="checkbox"
            checked={value.includes(s)}
            onChange={(e) => onChange(e.target.checked ? [...value, s] : value.filter((x) => x !== s))}
          />{" "}
          {s}
        </label>
      ))}
    </>
  );
}

type NearLeaf = Extract<Leaf, { kind: "near" }>;

/** Takes a person's own coordinates for the centre. */
function Home({ leaf, onChange }: { leaf: NearLeaf; onChange: Change<Leaf> }) {
  const find = useMutation({
    mutationFn: async (address: string) => {
      const found = await ok(api.GET("/api/contacts", { params: { query: { search: address } } }));
      const row = found.rows.find((r) => r.address.toLowerCase() === address.toLowerCase()) ?? found.rows[0];
      if (!row) throw new Error(`Nobody’s address begins with ${address}.`);
      const person = await ok(api.GET("/api/contacts/{id}", { params: { path: { id: row.id } } }));
      if (!person.position) throw new Error(`No home place is known of ${row.address}.`);
      return { place: `the home of ${row.address}`, latitude: person.position[0]!, longitude: person.position[1]! };
    },
    onSuccess: (at) => onChange({ ...leaf, ...at }),
  });
  return (
    <>
      {" or of "}
      <input
        className="bare"
        aria-label="A person's home: their address"
        placeholder="a person’s address"
        style={{ width: 190 }}
        onKeyDown={(e) => {
          const address = e.currentTarget.value.trim();
          if (e.key === "Enter" && address) find.mutate(address);
        }}
      />
      <Failure error={find.error} />
    </>
  );
}

/** More than, at least, exactly, at most, less than a number. */
function Test({
  leaf,
  label,
  onChange,
}: {
  leaf: Extract<Leaf, { kind: "number" | "score" }>;
  label: string;
  onChange: Change<Leaf>;
}) {
  return (
    <>
      <Pick label="Test" value={leaf.is} options={COMPARE} onChange={(is) => onChange({ ...leaf, is })} />
      <NumberBox label={label} value={leaf.value} onChange={(value) => onChange({ ...leaf, value })} />
    </>
  );
}

/** What follows the name of a condition. */
export function Details({
  leaf,
  vocabulary: v,
  onChange,
}: {
  leaf: Leaf;
  vocabulary: Vocabulary;
  onChange: Change<Leaf>;
}) {
  const named = (of: { id: number; name: string }[]) => of.map((x) => [x.id, x.name] as const);
  switch (leaf.kind) {
    case "text":
      return (
        <>
          <Pick
            label="Test"
            value={leaf.is}
            options={[
              ["is", "is"],
              ["is_not", "is not"],
              ["begins", "begins with"],
              ["contains", "contains"],
            ]}
            onChange={(is) => onChange({ ...leaf, is })}
          />
          <Words label="Words" value={leaf.value} onChange={(value) => onChange({ ...leaf, value })} />
        </>
      );
    case "number":
      return (
        <>
          is <Test leaf={leaf} label="Number" onChange={onChange} />
        </>
      );
    case "score":
      return (
        <>
          <Pick
            label="Score"
            value={leaf.score}
            options={named(v.scores)}
            onChange={(score) => onChange({ ...leaf, score })}
          />{" "}
          is <Test leaf={leaf} label="Points" onChange={onChange} />
        </>
      );
    case "date": {
      const [test, n] = Object.entries(leaf.is)[0] as [string, number];
      const day = test === "before" || test === "from";
      const make = (t: string, k: number) => onChange({ ...leaf, is: { [t]: k } as unknown as typeof leaf.is });
      return (
        <>
          is{" "}
          <Pick
            label="Test"
            value={test}
            options={[
              ["before", "before"],
              ["from", "on or after"],
              ["last_days", "in the last"],
              ["next_days", "in the next"],
            ]}
            onChange={(t) => make(t, t === "before" || t === "from" ? toDay("2025-01-01") : 365)}
          />
          {day ? (
            <input
              className="bare"
              type="date"
              aria-label="Date"
              value={fromDay(n)}
              onChange={(e) => e.target.value && make(test, toDay(e.target.value))}
            />
          ) : (
            <>
              <NumberBox label="Days" value={n} onChange={(k) => make(test, Math.max(0, Math.round(k)))} /> days
            </>
          )}
        </>
      );
    }
    case "yes_no":
      return (
        <>
          is{" "}
          <Pick
            label="Answer"
            value={leaf.yes ? "yes" : "no"}
            options={[
              ["yes", "yes"],
              ["no", "no"],
            ]}
            onChange={(a) => onChange({ ...leaf, yes: a === "yes" })}
          />
        </>
      );
    case "missing": {
      const options: (readonly [string, string])[] = [
        ...(["country", "region", "time_zone", "source", "given_name", "family_name", "position"] as const).map(
          (f) => [f, f === "position" ? "home place" : f.replace("_", " ")] as const,
        ),
        ...v.fields.map((f) => [String(f.id), f.name] as const),
      ];
      const value = typeof leaf.field === "string" ? leaf.field : String(leaf.field.own);
      return (
        <Pick
          label="Field"
          value={value}
          options={options}
          onChange={(f) =>
            onChange({ ...leaf, field: (/^\d+$/.test(f) ? { own: Number(f) } : f) as typeof leaf.field })
          }
        />
      );
    }
    case "dated":
      return (
        <>
          is dated in the last{" "}
          <NumberBox label="Days" value={leaf.within_days} onChange={(n) => onChange({ ...leaf, within_days: n })} />{" "}
          days
        </>
      );
    case "near":
      return (
        <>
          <Pick
            label="Place"
            value={leaf.place}
            options={[
              ...v.places.map((p) => [p.name, p.name] as const),
              ...(v.places.some((p) => p.name === leaf.place)
                ? []
                : [[leaf.place, leaf.place || "coordinates"] as const]),
              ...(leaf.place === "" ? [] : [["", "coordinates …"] as const]),
            ]}
            onChange={(name) => {
              const p = v.places.find((x) => x.name === name);
              onChange({ ...leaf, place: name, ...(p ? { latitude: p.latitude, longitude: p.longitude } : {}) });
            }}
          />
          {leaf.place === "" && (
            <>
              <NumberBox
                label="Latitude"
                value={leaf.latitude}
                onChange={(latitude) => onChange({ ...leaf, latitude })}
              />
              <NumberBox
                label="Longitude"
                value={leaf.longitude}
                onChange={(longitude) => onChange({ ...leaf, longitude })}
              />
            </>
          )}
          {" within "}
          <NumberBox
            label="Distance"
            value={leaf.miles ? Math.round((leaf.km / KM_PER_MILE) * 1000) / 1000 : leaf.km}
            onChange={(n) => onChange({ ...leaf, km: leaf.miles ? n * KM_PER_MILE : n })}
          />
          <Pick
            label="Kilometres or miles"
            value={leaf.miles ? "miles" : "km"}
            options={[
              ["km", "km"],
              ["miles", "miles"],
            ]}
            onChange={(u) => {
              const n = leaf.miles ? leaf.km / KM_PER_MILE : leaf.km;
              onChange({ ...leaf, miles: u === "miles", km: u === "miles" ? n * KM_PER_MILE : n });
            }}
          />
          <Home leaf={leaf} onChange={onChange} />
        </>
      );
    case "domain":
      return (
        <>
          <Words label="Domain" value={leaf.domain} onChange={(domain) => onChange({ ...leaf, domain })} />
          <label>
            <input
              type="checkbox"
              checked={leaf.subdomains}
              onChange={(e) => onChange({ ...leaf, subdomains: e.target.checked })}
            />{" "}
            and under it
          </label>
        </>
      );
    case "list":
      return (
        <Pick
          label="List"
          value={leaf.list}
          options={named(v.lists)}
          onChange={(list) => onChange({ ...leaf, list })}
        />
      );
    case "tag":
      return (
        <Pick label="Tag" value={leaf.tag} options={named(v.tags)} onChange={(tag) => onChange({ ...leaf, tag })} />
      );
    case "topic":
      return (
        <Pick
          label="Topic"
          value={leaf.topic}
          options={named(v.topics)}
          onChange={(topic) => onChange({ ...leaf, topic })}
        />
      );
    case "segment":
      return (
        <Pick
          label="Segment"
          value={leaf.segment}
          options={named(v.segments)}
          onChange={(segment) => onChange({ ...leaf, segment })}
        />
      );
    case "consent":
      return (
        <Boxes
          all={["none", "invited", "consented", "confirmed", "paused", "withdrawn", "complained"]}
          value={leaf.states}
          onChange={(states) => onChange({ ...leaf, states })}
        />
      );
    case "status":
      return (
        <Boxes
          all={["active", "resting", "observed", "retired"]}
          value={leaf.states}
          onChange={(states) => onChange({ ...leaf, states })}
        />
      );
    case "added":
      return (
        <>
          in the last{" "}
          <NumberBox
            label="Days"
            value={leaf.within_days}
            onChange={(n) => onChange({ ...leaf, within_days: Math.max(0, Math.round(n)) })}
          />{" "}
          days
        </>
      );
    case "did":
      return (
        <>
          <Times value={leaf.times} onChange={(times) => onChange({ ...leaf, times })} />
          <Pick
            label="Of the mailing"
            value={leaf.series != null ? `s${leaf.series}` : String(leaf.mailing ?? 0)}
            options={[
              ["0", "of any mailing"],
              ...v.series.map((s) => [`s${s.id}`, `of the series ${s.name}`] as const),
              ...v.mailings.map((m) => [String(m.id), `of ${m.name}`] as const),
            ]}
            onChange={(m) =>
              onChange({
                ...leaf,
                mailing: m.startsWith("s") ? null : Number(m) || null,
                series: m.startsWith("s") ? Number(m.slice(1)) : null,
                link: null,
              })
            }
          />
          {leaf.did === "clicked" && leaf.mailing != null && (
            <LinkOf mailing={leaf.mailing} value={leaf.link ?? null} onChange={(link) => onChange({ ...leaf, link })} />
          )}
          <Within value={leaf.within_days} onChange={(within_days) => onChange({ ...leaf, within_days })} />
          {(leaf.did === "opened" || leaf.did === "clicked") && (
            <label>
              <input
                type="checkbox"
                checked={!leaf.human}
                onChange={(e) => onChange({ ...leaf, human: !e.target.checked })}
              />{" "}
              machines too
            </label>
          )}
        </>
      );
    case "series":
      return (
        <>
          <Pick
            label="Series"
            value={leaf.series}
            options={v.series.map((s) => [s.id, s.name] as const)}
            onChange={(series) => onChange({ ...leaf, series })}
          />
          <Pick
            label="Part"
            value={leaf.part}
            options={[
              ["inside", "now"],
              ["before", "earlier, and not any more"],
              ["ever", "now or earlier"],
            ]}
            onChange={(part) => onChange({ ...leaf, part })}
          />
        </>
      );
    case "event":
      return (
        <>
          <Pick
            label="Event"
            value={leaf.name}
            options={[...new Set([leaf.name, ...v.events])].map((e) => [e, e] as const)}
            onChange={(name) => onChange({ ...leaf, name })}
          />
          <Times value={leaf.times} of="times" onChange={(times) => onChange({ ...leaf, times })} />
          <Within value={leaf.within_days} onChange={(within_days) => onChange({ ...leaf, within_days })} />
        </>
      );
    case "load":
      return (
        <>
          {CELLS.map((cell) => (
            <label key={cell} style={{ marginRight: 10, whiteSpace: "nowrap" }}>
              <input
                type="checkbox"
                checked={leaf.cells.includes(cell)}
                onChange={(e) =>
                  onChange({
                    ...leaf,
                    cells: e.target.checked
                      ? [...leaf.cells, cell].sort((a, b) => a - b)
                      : leaf.cells.filter((c) => c !== cell),
                  })
                }
              />{" "}
              {cellWords(cell)}
            </label>
          ))}
        </>
      );
    case "converted":
      return (
        <>
          <Pick
            label="Goal"
            value={leaf.goal}
            options={named(v.goals)}
            onChange={(goal) => onChange({ ...leaf, goal })}
          />
          <Times value={leaf.times} of="times" onChange={(times) => onChange({ ...leaf, times })} />
          <Within value={leaf.within_days} onChange={(within_days) => onChange({ ...leaf, within_days })} />
        </>
      );
    case "received":
      return (
        <>
          <Times value={leaf.times} onChange={(times) => onChange({ ...leaf, times })} />
          <Within value={leaf.within_days} onChange={(within_days) => onChange({ ...leaf, within_days })} />
        </>
      );
    case "bought": {
      const what = leaf.product != null ? `p:${leaf.product}` : leaf.category != null ? `c:${leaf.category}` : "any";
      return (
        <>
          <Pick
            label="Product"
            value={what}
            options={[
              ["any", "anything"],
              ...v.products.map((p) => [`p:${p}`, p] as const),
              ...v.categories.map((c) => [`c:${c}`, `anything of ${c}`] as const),
            ]}
            onChange={(w) =>
              onChange({
                ...leaf,
                product: w.startsWith("p:") ? w.slice(2) : null,
                category: w.startsWith("c:") ? w.slice(2) : null,
              })
            }
          />
          <Pick label="Test" value={leaf.is} options={COMPARE} onChange={(is) => onChange({ ...leaf, is })} />
          <NumberBox label="How much" value={leaf.value} onChange={(value) => onChange({ ...leaf, value })} />
          <Pick
            label="Times or value"
            value={leaf.what}
            options={[
              ["count", "times"],
              ["value", "in value"],
            ]}
            onChange={(w) => onChange({ ...leaf, what: w })}
          />
          <Within value={leaf.within_days} onChange={(within_days) => onChange({ ...leaf, within_days })} />
        </>
      );
    }
    case "share":
      return (
        <>
          <NumberBox label="Per cent" value={leaf.percent} onChange={(percent) => onChange({ ...leaf, percent })} /> %
        </>
      );
  }
}
