import { Button, TextField } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok, type Schemas } from "../../api/client";
import { Failure } from "../../shared/states";
import { useVocabulary } from "../../shared/useVocabulary";

export const PROFILE = [
  ["given_name", "Given name"],
  ["family_name", "Family name"],
  ["country", "Country"],
  ["region", "Region"],
  ["zone", "Time zone"],
  ["source", "Source"],
] as const;

/** Changes a person's profile and fields; an empty box takes the value away. */
export function EditPerson({ p, close }: { p: Schemas["Contact"]; close: () => void }) {
  const own = useVocabulary().data?.fields ?? [];
  const [profile, setProfile] = useState(() => Object.fromEntries(PROFILE.map(([key]) => [key, p[key] ?? ""])));
  const [fields, setFields] = useState<Record<number, string>>({});
  const valueOf = (id: number) => fields[id] ?? p.fields.find((f) => f.field_id === id)?.value ?? "";
  const save = useMutation({
    mutationFn: () =>
      ok(
        api.PUT("/api/contacts/{id}", {
          params: { path: { id: p.id } },
          body: {
            profile: {
              ...Object.fromEntries(PROFILE.map(([key]) => [key, profile[key]?.trim() || null])),
              position: p.position ?? null,
            },
            fields: Object.entries(fields).map(([id, value]) => ({ field_id: Number(id), value })),
          },
        }),
      ),
    onSuccess: async () => {
      close();
    },
  });
  return (
    <>
      <div className="fields" style={{ display: "grid", gridTemplateColumns: "1fr 1fr 1fr", gap: 12 }}>
        {PROFILE.map(([key, label]) => (
          <TextField
            key={key}
            label={label}
            value={profile[key]}
            onChange={(e) => setProfile({ ...profile, [key]: e.target.value })}
          />
        ))}
        {own.map((f) => (
          <TextField
            key={f.id}
            label={f.name}
            helperText={f.kind === "date" ? "as 2026-04-16" : f.kind === "yes_no" ? "yes or no" : undefined}
            value={valueOf(f.id)}
            onChange={(e) => setFields({ ...fields, [f.id]: e.target.value })}
          />
        ))}
      </div>
      <Failure error={save.error} />
      <div className="acts">
        <Button variant="contained" disabled={save.isPending} onClick={() => save.mutate()}>
          Save the profile
        </Button>
        <Button variant="text" onClick={close}>
          Leave it as it was
        </Button>
      </div>
    </>
  );
}
