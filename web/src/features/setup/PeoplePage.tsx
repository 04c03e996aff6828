import { Button, MenuItem, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { plural } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { useSetupSlips } from "./useSetupSlips";

type Person = Schemas["Person"];
const ROLES = [
  ["analyst", "analyst"],
  ["marketer", "marketer"],
  ["approver", "approver: may let an exception through"],
] as const;
const NOBODY = { id: null as number | null, name: "", role: "analyst", address: "" };

/** Who works with Rinse: recorded with every change, and mailed the letters of saved views. */
export function PeoplePage() {
  const slips = useSetupSlips();
  const people = useQuery(queries.people);
  const [p, setP] = useState(NOBODY);
  const save = useMutation({
    mutationFn: async () => {
      const body = { name: p.name, role: p.role, address: p.address.trim() || null };
      if (p.id === null) await ok(api.POST("/api/people", { body }));
      else await ok(api.PUT("/api/people/{id}", { params: { path: { id: p.id } }, body }));
    },
    onSuccess: () => setP(NOBODY),
  });
  return (
    <Frame slips={slips}>
      <Loaded query={people}>
        {(all) => (
          <>
            <div className="crumb">
              <span>Setup</span>
              <span>people</span>
            </div>
            <h1>Who works with Rinse</h1>
            <p className="finding">
              <em>{plural(all.length, "person", "people")}</em>,{" "}
              {plural(all.filter((x) => x.role === "approver").length, "approver")}.
            </p>
            <DataTable<Person>
              name="People"
              plain
              rows={all}
              id={(x) => x.id}
              columns={(col) => [
                col.text("Name", (x) => x.name),
                col.text("Role", (x) => x.role),
                col.text("Letters go to", (x) => x.address ?? "–"),
                col.acts((x) => (
                  <button
                    className="plain"
                    onClick={() => setP({ id: x.id, name: x.name, role: x.role, address: x.address ?? "" })}
                  >
                    Change<span className="away"> {x.name}</span>
                  </button>
                )),
              ]}
            />
            <h2>{p.id === null ? "Add a person" : "Change a person"}</h2>
            <div className="fields" style={{ maxWidth: 720 }}>
              <div className="two">
                <TextField label="Name" value={p.name} onChange={(e) => setP({ ...p, name: e.target.value })} />
                <TextField select label="Role" value={p.role} onChange={(e) => setP({ ...p, role: e.target.value })}>
                  {ROLES.map(([role, words]) => (
                    <MenuItem key={role} value={role}>
                      {words}
                    </MenuItem>
                  ))}
                </TextField>
              </div>
              <TextField
                label="Email address"
                value={p.address}
                helperText="Where letters of saved views go; nothing else is sent there"
                onChange={(e) => setP({ ...p, address: e.target.value })}
              />
            </div>
            <Failure error={save.error} />
            <div className="acts">
              <Button
                variant="outlined"
                disabled={p.name.trim() === "" || save.isPending}
                onClick={() => save.mutate()}
              >
                {p.id === null ? "Add them" : "Save them"}
              </Button>
              {p.id !== null && <Button onClick={() => setP(NOBODY)}>Leave as it was</Button>}
            </div>
            <p className="soft small" style={{ maxWidth: "62em" }}>
              Every change is recorded with the person who made it. Anybody who sits at this machine can act as anybody
              here: the name is chosen in the masthead, and nothing proves it.
            </p>
          </>
        )}
      </Loaded>
    </Frame>
  );
}
