import { Button, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, date, plural } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { deliverySlips } from "./slips";

type Domain = Schemas["MailboxDomain"];

const SAID: Record<Domain["said_by"], string> = {
  nobody: "a group of its own",
  dns: "by its mail hosts",
  person: "by a person",
};

/** Says which group a domain is of, or leaves it to DNS again. */
function Say({ d, close }: { d: Domain; close: () => void }) {
  const [group, setGroup] = useState(d.group);
  const say = useMutation({
    mutationFn: (group: string | null) =>
      ok(api.PUT("/api/delivery/groups/{id}", { params: { path: { id: d.id } }, body: { group } })),
    onSuccess: close,
  });
  return (
    <form
      className="acts"
      onSubmit={(e) => {
        e.preventDefault();
        say.mutate(group);
      }}
    >
      <TextField
        size="small"
        label={`Group of ${d.name}`}
        value={group}
        onChange={(e) => setGroup(e.target.value)}
        slotProps={{ htmlInput: { maxLength: 100 } }}
        autoFocus
      />
      <Button type="submit" variant="contained" size="small" disabled={say.isPending || !group.trim()}>
        Keep
      </Button>
      {d.said_by === "person" && (
        <Button size="small" disabled={say.isPending} onClick={() => say.mutate(null)}>
          As DNS has it
        </Button>
      )}
      <Button size="small" onClick={close}>
        Leave it
      </Button>
      <Failure error={say.error} />
    </form>
  );
}

/** Which mail domains the same operator takes mail for. */
export function GroupsPage() {
  const [open, setOpen] = useState<number | null>(null);
  const domains = useQuery({ queryKey: ["mailbox-groups"], queryFn: () => ok(api.GET("/api/delivery/groups")) });
  return (
    <Frame slips={deliverySlips}>
      <Loaded query={domains}>
        {(all) => {
          const groups = new Set(all.map((d) => d.group)).size;
          const looked = all.filter((d) => d.mx_at != null).length;
          return (
            <>
              <div className="crumb">
                <span>Delivery</span>
              </div>
              <h1>Mailbox groups</h1>
              <p className="finding">
                The mail of {plural(all.length, "domain")} is taken by <em>{plural(groups, "operator")}</em>
                {looked === 0 && ", as far as their names tell: nobody has looked into DNS"}.
              </p>
              <p className="soft" style={{ maxWidth: "62em" }}>
                What one operator’s hosts think of us they think of us at all its domains: alerts, pauses and the pace
                are by group. The operator is the registered domain of the best mail host in DNS; where DNS is wrong,
                say better.
              </p>
              <DataTable<Domain>
                name="Mail domains and their groups"
                rows={all}
                id={(d) => d.id}
                columns={(col) => [
                  col.text("Domain", (d) => d.name),
                  col.number("People", (d) => d.people),
                  col.shown(
                    "Group",
                    (d) => d.group,
                    (d) =>
                      open === d.id ? (
                        <Say d={d} close={() => setOpen(null)} />
                      ) : (
                        <>
                          {d.group}{" "}
                          <button className="plain" onClick={() => setOpen(d.id)}>
                            change<span className="away"> the group of {d.name}</span>
                          </button>
                        </>
                      ),
                  ),
                  col.text("Known", (d) => SAID[d.said_by]),
                  col.text("Mail hosts", (d) =>
                    d.mx_at == null ? "not looked for" : d.mx ? d.mx.split(" ").join(", ") : "none found",
                  ),
                  col.text("Looked", (d) => (d.mx_at == null ? "" : date(d.mx_at))),
                ]}
              />
              {all.length === 500 && (
                <p className="soft small">
                  The {count(all.length)} domains with most people; each other one is a group of its own.
                </p>
              )}
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
