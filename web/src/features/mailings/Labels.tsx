import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok } from "../../api/client";
import { Failure } from "../../shared/states";
import { useVocabulary } from "../../shared/useVocabulary";

/** What a mailing is called by, to be found again: put on and taken off. */
export function Labels({ id, labels }: { id: number; labels: string[] }) {
  const known = useVocabulary().data?.labels ?? [];
  const [name, setName] = useState("");
  const save = useMutation({
    mutationFn: (names: string[]) =>
      ok(api.PUT("/api/mailings/{id}/labels", { params: { path: { id } }, body: names })),
    onSuccess: () => {
      setName("");
    },
  });
  return (
    <div className="filters">
      Labels:{" "}
      {labels.map((l) => (
        <button key={l} onClick={() => save.mutate(labels.filter((x) => x !== l))}>
          {l} ×<span className="away"> take off</span>
        </button>
      ))}{" "}
      <input
        className="bare"
        aria-label="Put a label on it"
        placeholder="put a label on it"
        list="known-labels"
        style={{ width: 180 }}
        value={name}
        onChange={(e) => setName(e.target.value)}
        onKeyDown={(e) => e.key === "Enter" && name.trim() && save.mutate([...labels, name.trim()])}
      />
      <datalist id="known-labels">
        {known.map((l) => (
          <option key={l.id} value={l.name} />
        ))}
      </datalist>
      <Failure error={save.error} />
    </div>
  );
}
