import { CELLS, cellWords } from "../../shared/load";
import { NumberBox } from "../../shared/NumberBox";
import { LinkOf, Pick } from "../../shared/Pick";
import type { Leaf, Vocabulary } from "./leaf";
import { type Change, COMPARE, Times, Within } from "./pieces";

const STAGES = [
  ["to_ask", "to be asked"],
  ["being_asked", "being asked"],
  ["let_pass", "asked, and let it pass"],
  ["left_alone", "kept back, or left alone"],
] as const;

/** Conditions on what somebody did and got. */
type DeedLeaf = Extract<
  Leaf,
  { kind: "did" | "series" | "event" | "load" | "silent" | "converted" | "received" | "bought" | "share" }
>;

/** What follows the name of such a condition. */
export function DeedDetails({
  leaf,
  vocabulary: v,
  onChange,
}: {
  leaf: DeedLeaf;
  vocabulary: Vocabulary;
  onChange: Change<Leaf>;
}) {
  const named = (of: { id: number; name: string }[]) => of.map((x) => [x.id, x.name] as const);
  switch (leaf.kind) {
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
    case "silent":
      return (
        <>
          {STAGES.map(([stage, title]) => (
            <label key={stage} style={{ marginRight: 10, whiteSpace: "nowrap" }}>
              <input
                type="checkbox"
                checked={leaf.stages.includes(stage)}
                onChange={(e) =>
                  onChange({
                    ...leaf,
                    stages: STAGES.map((s) => s[0]).filter((s) =>
                      s === stage ? e.target.checked : leaf.stages.includes(s),
                    ),
                  })
                }
              />{" "}
              {title}
            </label>
          ))}
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
