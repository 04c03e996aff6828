import { Button, Checkbox, FormControlLabel, TextField } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok, type Schemas } from "../../api/client";
import { EntityPick } from "../../shared/EntityPick";
import { date } from "../../shared/format";
import { Failure } from "../../shared/states";
import { useWorking } from "../../shared/working";

type Person = Schemas["Contact"];

/** A person's phone number, and how text messages to it stand. */
export function Phone({ p }: { p: Person }) {
  const { show } = useWorking();
  const texts = p.others.filter((o) => o.channel === "text");
  return (
    <>
      <dt>Phone</dt>
      <dd>
        {p.phone ?? "–"}
        {p.phone_failed_at != null && <span className="bad"> no such number, since {date(p.phone_failed_at)}</span>}
        {texts.map((t) => (
          <span key={t.entity} className="soft">
            {" "}
            text messages {t.state}
            {t.entity ? ` to ${t.entity}` : ""}
          </span>
        ))}
        {!p.gone && (
          <>
            {" "}
            <button
              className="plain small"
              onClick={() => show({ title: `Phone of ${p.address}`, body: <Edit p={p} /> })}
            >
              change
            </button>
          </>
        )}
      </dd>
    </>
  );
}

function Edit({ p }: { p: Person }) {
  const { show } = useWorking();
  const [phone, setPhone] = useState(p.phone ?? "");
  const [agrees, setAgrees] = useState(false);
  const [agreed, setAgreed] = useState("");
  const [entity, setEntity] = useState("");
  const save = useMutation({
    mutationFn: () =>
      ok(
        api.PUT("/api/contacts/{id}/phone", {
          params: { path: { id: p.id } },
          body: { phone, agreed: agrees ? agreed : "", entity },
        }),
      ),
    onSuccess: async () => {
      show(null);
    },
  });
  return (
    <div className="fields">
      <TextField
        label="Phone number"
        value={phone}
        helperText="With its country code, or as it is written in the person's country"
        onChange={(e) => setPhone(e.target.value)}
      />
      {p.phone && phone.trim() !== p.phone && (
        <p className="note" style={{ margin: 0 }}>
          What was agreed for {p.phone} doesn't hold for another number. A refusal stays.
        </p>
      )}
      <FormControlLabel
        control={<Checkbox checked={agrees} onChange={(e) => setAgrees(e.target.checked)} />}
        label="They agreed to text messages to it"
      />
      {agrees && <EntityPick value={entity} onChange={setEntity} />}
      {agrees && (
        <TextField
          label="How they agreed"
          value={agreed}
          helperText="Which form, when: kept as evidence"
          onChange={(e) => setAgreed(e.target.value)}
        />
      )}
      <Failure error={save.error} />
      <div className="acts">
        <Button
          variant="contained"
          disabled={save.isPending || (agrees && agreed.trim().length < 5)}
          onClick={() => save.mutate()}
        >
          Save the number
        </Button>
      </div>
    </div>
  );
}
