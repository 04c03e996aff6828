import { Button, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok } from "../../api/client";
import { queries } from "../../api/queries";
import { date } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Failure } from "../../shared/states";

/** Who may bring mail: each source posts to an address of its own. */
export function Doors() {
  const doors = useQuery(queries.doors);
  const [name, setName] = useState("");
  const make = useMutation({
    mutationFn: () => ok(api.POST("/api/doors", { body: { name } })),
    onSuccess: () => {
      setName("");
    },
  });
  const end = useMutation({
    mutationFn: (id: number) => ok(api.DELETE("/api/doors/{id}", { params: { path: { id } } })),
  });
  const all = doors.data ?? [];
  return (
    <>
      <h2>Doors for mail and events</h2>
      <p className="soft" style={{ maxWidth: "50em" }}>
        Delivery reports, complaints and replies come in as raw mail, what another sender’s mailings came to as events,
        each posted to an address that only its source knows. Give each source a door of its own. Mail that a mail
        program puts into the data folder’s mailbox needs none.
      </p>
      {all.length > 0 && (
        <DataTable
          name="Doors"
          plain
          rows={all}
          id={(d) => d.id}
          dense
          columns={(col) => [
            col.text("Source", (d) => d.name),
            col.when("Made", (d) => d.made_at),
            col.text("Last used", (d) => (d.used_at ? date(d.used_at) : "never")),
            col.acts((d) => (
              <button className="plain bad" onClick={() => end.mutate(d.id)}>
                Close<span className="away"> the door of {d.name}</span>
              </button>
            )),
          ]}
        />
      )}
      {make.data && (
        <div role="status">
          <p style={{ marginBottom: 4 }}>
            It posts raw mail to the first of these, events of another sender to the second. They are shown once:
          </p>
          <div className="formula" style={{ wordBreak: "break-all" }}>
            {make.data.url}
          </div>
          <div className="formula" style={{ wordBreak: "break-all", marginTop: 4 }}>
            {make.data.events_url}
          </div>
        </div>
      )}
      <div className="fields" style={{ maxWidth: 350, marginTop: 14 }}>
        <TextField label="Who will bring mail or events" value={name} onChange={(e) => setName(e.target.value)} />
      </div>
      <Failure error={doors.error ?? make.error ?? end.error} />
      <div className="acts">
        <Button variant="outlined" disabled={!name.trim() || make.isPending} onClick={() => make.mutate()}>
          Open a door
        </Button>
      </div>
    </>
  );
}
