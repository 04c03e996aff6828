import { useMutation } from "@tanstack/react-query";
import { api, ok } from "../../api/client";
import { Pick } from "../../shared/Pick";
import { NumberBox } from "../../shared/NumberBox";
import { Failure } from "../../shared/states";
import { type Leaf } from "./leaf";

export type Change<T> = (next: T) => void;
/** The international mile, as the server counts it. */
export const KM_PER_MILE = 1.609344;
export const COMPARE = [
  ["over", "more than"],
  ["at_least", "at least"],
  ["equal", "exactly"],
  ["at_most", "at most"],
  ["under", "less than"],
] as const;

export function Words({
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
export function Within({ value, onChange }: { value: number | null | undefined; onChange: Change<number | null> }) {
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
export function Times({
  value,
  onChange,
  of = "messages",
}: {
  value: TimesOf;
  onChange: Change<TimesOf>;
  of?: string;
}) {
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

export function Boxes<T extends string>({ all, value, onChange }: { all: T[]; value: T[]; onChange: Change<T[]> }) {
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
export function Home({ leaf, onChange }: { leaf: NearLeaf; onChange: Change<Leaf> }) {
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
export function Test({
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
