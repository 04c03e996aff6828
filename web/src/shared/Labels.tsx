import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok } from "../api/client";
import { type LabelledKind, useLabelled } from "./ByLabel";
import { Failure } from "./states";
import { useVocabulary } from "./useVocabulary";

/** What a mailing, a series or an hour trial is called by, to be found again: put on and taken off. */
export function Labels({ on = "mailing", id, labels }: { on?: LabelledKind; id: number; labels: string[] }) {
  const known = useVocabulary().data?.labels ?? [];
  const [name, setName] = useState("");
  const save = useMutation({
    mutationFn: (names: string[]) =>
      ok(api.PUT("/api/labels/{on}/{id}", { params: { path: { on, id } }, body: names })),
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

/** The labels of a series or an hour trial, put on and taken off where it stands. */
export function OwnLabels({ on, id }: { on: LabelledKind; id: number }) {
  const labels = useLabelled(on).get(id);
  return <Labels on={on} id={id} labels={labels ?? []} />;
}
