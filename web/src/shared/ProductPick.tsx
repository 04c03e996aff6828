import { Pick } from "./Pick";
import { useVocabulary } from "./useVocabulary";

export type Bought = { product?: string | null; category?: string | null };

/** A product, anything of a category, or anything. */
export function ProductPick({ value, onChange }: { value: Bought; onChange: (next: Bought) => void }) {
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
