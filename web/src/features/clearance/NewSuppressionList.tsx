import { Button, MenuItem, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { plural } from "../../shared/format";
import { Failure } from "../../shared/states";
import { Seen } from "./suppressionParts";

export function NewList() {
  const navigate = useNavigate();
  const rules = useQuery(queries.rules);
  const segments = useQuery(queries.segments);
  const mailings = useQuery(queries.mailings);
  const [name, setName] = useState("");
  const [reason, setReason] = useState("");
  const [scope, setScope] = useState("all");
  const [segment, setSegment] = useState(0);
  const [kind, id] = scope.split(" ");
  const body = {
    name,
    reason,
    scope: (kind === "all" ? { kind } : { kind, id: Number(id) }) as Schemas["SuppressionScope"],
    segment_id: segment || null,
  };
  const look = useMutation({ mutationFn: () => ok(api.POST("/api/suppression/preview", { body })) });
  const make = useMutation({
    mutationFn: () => ok(api.POST("/api/suppression", { body })),
    onSuccess: async (list) => {
      await navigate(`/clearance/suppression/${list}`);
    },
  });
  return (
    <>
      <h2>A new list or live rule</h2>
      <div className="fields" style={{ maxWidth: 620 }}>
        <div className="two">
          <TextField label="Name" value={name} onChange={(e) => setName(e.target.value)} />
          <TextField label="Reason" value={reason} onChange={(e) => setReason(e.target.value)} />
          <TextField
            select
            label="Bars from"
            value={scope}
            onChange={(e) => {
              setScope(e.target.value);
              look.reset();
            }}
          >
            <MenuItem value="all">all mail, service mail too</MenuItem>
            {rules.data?.letterheads.map((l) => (
              <MenuItem key={`l${l.id}`} value={`letterhead ${l.id}`}>
                letterhead {l.name}
              </MenuItem>
            ))}
            {rules.data?.topics.map((t) => (
              <MenuItem key={`t${t.id}`} value={`topic ${t.id}`}>
                topic {t.name}
              </MenuItem>
            ))}
            {mailings.data
              ?.filter((m) => m.state !== "sent")
              .map((m) => (
                <MenuItem key={`m${m.id}`} value={`mailing ${m.id}`}>
                  mailing {m.name}
                </MenuItem>
              ))}
          </TextField>
          <TextField
            select
            label="Everybody who is in"
            value={segment}
            onChange={(e) => {
              setSegment(Number(e.target.value));
              look.reset();
            }}
            helperText="A live rule: everybody who is in the segment from now on is barred"
          >
            <MenuItem value={0}>lines only</MenuItem>
            {segments.data?.map((s) => (
              <MenuItem key={s.id} value={s.id}>
                {s.name}
              </MenuItem>
            ))}
          </TextField>
        </div>
      </div>
      <Failure error={make.error ?? look.error} />
      {look.data && (
        <Seen effects={look.data.effects}>
          It catches <b>{plural(look.data.people, "person", "people")}</b> of the base now.
        </Seen>
      )}
      <div className="acts">
        {segment > 0 && (
          <Button variant="outlined" disabled={look.isPending} onClick={() => look.mutate()}>
            See what it does
          </Button>
        )}
        <Button variant="outlined" disabled={!name.trim() || make.isPending} onClick={() => make.mutate()}>
          Make it
        </Button>
      </div>
    </>
  );
}
