import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { api, ok } from "../api/client";
import type { paths } from "../api/schema";
import { queries } from "../api/queries";

/** What a label is put on. */
export type LabelledKind = paths["/api/labels/{on}"]["get"]["parameters"]["path"]["on"];

/** The label that the page is narrowed to, the labels there are, and whether one of what it lists carries it. */
function useNarrowed(of: Map<number, string[]>) {
  const [params] = useSearchParams();
  const label = params.get("label");
  return {
    label,
    labels: [...new Set([...of.values()].flat())].sort(),
    carries: (id: number) => label === null || (of.get(id)?.includes(label) ?? false),
  };
}

/** How a page of mailings is narrowed by label. */
export function useByLabel() {
  const mailings = useQuery(queries.mailings).data ?? [];
  return useNarrowed(new Map(mailings.map((m) => [m.id, m.labels])));
}

/** The labels of each of a kind that has any. */
export function useLabelled(on: LabelledKind): Map<number, string[]> {
  const found = useQuery({
    queryKey: ["labels", on],
    queryFn: () => ok(api.GET("/api/labels/{on}", { params: { path: { on } } })),
  });
  return new Map((found.data ?? []).map((l) => [l.id, l.labels]));
}

/** How a page of series or hour trials, whose lists don't say their labels, is narrowed by label. */
export function useByOwnLabel(on: LabelledKind) {
  return useNarrowed(useLabelled(on));
}

/** Narrows a page to what carries one label. */
export function ByLabel({ labels, label }: { labels: string[]; label: string | null }) {
  const [params, setParams] = useSearchParams();
  if (labels.length === 0) return null;
  const choose = (l: string | null) => {
    const p = new URLSearchParams(params);
    if (l === null) p.delete("label");
    else p.set("label", l);
    setParams(p, { replace: true });
  };
  return (
    <div className="filters">
      <span className="switch" role="group" aria-label="By label">
        <button aria-pressed={label === null} onClick={() => choose(null)}>
          All
        </button>
        {labels.map((l) => (
          <button key={l} aria-pressed={label === l} onClick={() => choose(l)}>
            {l}
          </button>
        ))}
      </span>
    </div>
  );
}
