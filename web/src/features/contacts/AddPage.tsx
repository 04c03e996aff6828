import { Button, Checkbox, FormControlLabel, MenuItem, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, ok } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { EntityPick } from "../../shared/EntityPick";
import { Failure } from "../../shared/states";
import { useContactSlips } from "./useContactSlips";

/** One person by hand, with the evidence of their consent. */
export function AddPage() {
  const slips = useContactSlips();
  const navigate = useNavigate();
  const lists = useQuery(queries.lists);
  const [d, setD] = useState({
    address: "",
    given_name: "",
    family_name: "",
    country: "",
    evidence: "",
    entity: "",
    phone: "",
  });
  const [list, setList] = useState(0);
  const [consent, setConsent] = useState(false);
  const [texts, setTexts] = useState(false);
  const add = useMutation({
    mutationFn: () =>
      ok(
        api.POST("/api/contacts", {
          body: {
            address: d.address,
            given_name: d.given_name || null,
            family_name: d.family_name || null,
            country: d.country.toUpperCase() || null,
            list: list || null,
            phone: d.phone,
            consent,
            texts: texts && d.phone.trim() !== "",
            entity: d.entity,
            evidence: d.evidence,
          },
        }),
      ),
    onSuccess: async (id) => {
      await navigate(`/contacts/${id}`);
    },
  });
  const text = (key: keyof typeof d, label: string, help?: string) => (
    <TextField label={label} helperText={help} value={d[key]} onChange={(e) => setD({ ...d, [key]: e.target.value })} />
  );
  return (
    <Frame slips={slips}>
      <div className="crumb">
        <span>Contacts</span>
      </div>
      <h1>Add a person</h1>
      <p className="finding">One person, with what they agreed to on record.</p>
      <div className="fields">
        {text("address", "Address")}
        <div className="two">
          {text("given_name", "Given name")}
          {text("family_name", "Family name")}
        </div>
        <div className="two">
          {text("country", "Country", "two letters, as in NO")}
          <TextField select label="List" value={list} onChange={(e) => setList(Number(e.target.value))}>
            <MenuItem value={0}>None</MenuItem>
            {lists.data?.map((l) => (
              <MenuItem key={l.id} value={l.id}>
                {l.name}
              </MenuItem>
            ))}
          </TextField>
        </div>
        {text("phone", "Phone", "where text messages go; without a country code it is the country's own")}
        <FormControlLabel
          control={<Checkbox checked={consent} onChange={(e) => setConsent(e.target.checked)} />}
          label="This person agreed to get marketing mail"
        />
        <FormControlLabel
          control={<Checkbox checked={texts} disabled={!d.phone.trim()} onChange={(e) => setTexts(e.target.checked)} />}
          label="This person agreed to get text messages"
        />
        {(consent || texts) && <EntityPick value={d.entity} onChange={(entity) => setD({ ...d, entity })} />}
        {(consent || texts) && text("evidence", "How they agreed", "Which form, when: kept as evidence.")}
      </div>
      <Failure error={add.error} />
      <div className="acts">
        <Button variant="contained" disabled={!d.address.trim() || add.isPending} onClick={() => add.mutate()}>
          Add this person
        </Button>
      </div>
    </Frame>
  );
}
