import type { ReactNode } from "react";
import { count, plural } from "../../shared/format";
import { Pick } from "../../shared/Pick";
import { FILTERS, useAsked, useFound, wordsOf, type FilterKey, type Found } from "./asked";

const PERIODS = [
  [30, "last 30 days"],
  [90, "last 90 days"],
  [365, "last 12 months"],
  [36_500, "all time"],
] as const;

/** One filter in force, by its name, to be taken away by a press. */
function InForce({ filter, value, away }: { filter: FilterKey; value: string; away: () => void }) {
  const groups = useFound({ by: filter, days: 36_500 });
  const name = groups.data?.by === filter ? groups.data.rows.find((r) => r.key === value)?.name : undefined;
  return (
    <button onClick={away}>
      {wordsOf(filter)} {name ?? value} ×
    </button>
  );
}

/** Chooses a value of a filter that is being added. */
function Values({ filter, choose }: { filter: FilterKey; choose: (key: string) => void }) {
  const groups = useFound({ by: filter, days: 36_500 });
  const rows = groups.data?.by === filter ? groups.data.rows : [];
  return (
    <Pick
      label={`Which ${wordsOf(filter)}`}
      value=""
      options={[["", `which ${wordsOf(filter)} …`], ...rows.map((r) => [r.key, r.name] as const)]}
      onChange={choose}
    />
  );
}

/** The period and the filters as removable words, and how much of everything is shown. */
export function Filters({
  total,
  only = FILTERS,
  also,
}: {
  total: Found["total"] | undefined;
  only?: readonly FilterKey[];
  also?: ReactNode;
}) {
  const { params, set, query } = useAsked();
  const adding = params.get("add") as FilterKey | null;
  // What another page narrowed and this one can't stays in the address, and isn't said to be in force.
  const shown = only.filter((f) => params.has(f));
  return (
    <div className="filters" style={{ display: "flex", gap: 14, alignItems: "center", flexWrap: "wrap" }}>
      <Pick label="Period" value={query.days ?? 365} options={PERIODS} onChange={(days) => set({ days })} />
      {shown.map((f) => (
        <InForce key={f} filter={f} value={params.get(f)!} away={() => set({ [f]: null })} />
      ))}
      {adding ? (
        <Values filter={adding} choose={(value) => set({ [adding]: value, add: null })} />
      ) : only.length === 0 ? null : (
        <Pick
          label="Add a filter"
          value=""
          options={[
            ["", "add a filter …"],
            ...only.filter((f) => !shown.includes(f)).map((f) => [f, wordsOf(f)] as const),
          ]}
          onChange={(f) => set({ add: f })}
        />
      )}
      {total && (
        <span>
          {count(total.mailings)} of {plural(total.all_mailings, "mailing")} shown
        </span>
      )}
      {total?.newest_hidden && <span className="wait">the newest, {total.newest_hidden}, isn’t shown</span>}
      {also}
    </div>
  );
}
