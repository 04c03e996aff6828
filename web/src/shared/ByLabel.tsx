import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { queries } from "../api/queries";

/** The label that the page is narrowed to, the labels there are, and whether a mailing carries it. */
export function useByLabel() {
  const [params] = useSearchParams();
  const label = params.get("label");
  const mailings = useQuery(queries.mailings).data ?? [];
  const of = new Map(mailings.map((m) => [m.id, m.labels]));
  return {
    label,
    labels: [...new Set(mailings.flatMap((m) => m.labels))].sort(),
    carries: (mailing: number) => label === null || (of.get(mailing)?.includes(label) ?? false),
  };
}

/** Narrows a page to the mailings of one label. */
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
