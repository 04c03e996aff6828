import { Button, FormControlLabel, Switch, TextField } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { instant } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { useClearanceSlips } from "./useClearanceSlips";

function Cap({ rules }: { rules: Schemas["RulesVersion"] }) {
  const client = useQueryClient();
  const [limit, setLimit] = useState(String(rules.cap_limit));
  const [days, setDays] = useState(String(rules.cap_window_hours / 24));
  const [force, setForce] = useState(rules.cap_in_force);
  const save = useMutation({
    mutationFn: () =>
      ok(
        api.PUT("/api/rules", {
          body: { limit: Number(limit) || 0, window_hours: Math.round(Number(days) * 24) || 0, in_force: force },
        }),
      ),
    onSuccess: () => client.invalidateQueries(),
  });
  return (
    <>
      <div className="crumb">
        <span>Rules version {rules.id}</span>
        {rules.at > 0 && (
          <span>
            {instant(rules.at)}
            {rules.person ? `, ${rules.person}` : ""}
          </span>
        )}
      </div>
      <h1>Frequency cap</h1>
      <p className="finding">
        {rules.cap_in_force ? (
          <>
            The cap is <em>in force</em>: nobody gets more than {rules.cap_limit} marketing messages in{" "}
            {rules.cap_window_hours / 24} days.
          </>
        ) : (
          <>
            The cap is <em className="bad">not in force</em>: it is written down, and holds nobody.
          </>
        )}
      </p>
      <p className="soft" style={{ maxWidth: "46em" }}>
        Any window of that length counts, not a calendar week. People over it are held and get the mailing at the first
        instant it allows; after 7 days the mailing gives up on them. A mailing may skip them instead.
      </p>
      <div className="fields" style={{ maxWidth: 420 }}>
        <div className="two">
          <TextField
            label="Messages at most"
            value={limit}
            onChange={(e) => setLimit(e.target.value)}
            slotProps={{ htmlInput: { inputMode: "numeric" } }}
          />
          <TextField
            label="In days"
            value={days}
            onChange={(e) => setDays(e.target.value)}
            slotProps={{ htmlInput: { inputMode: "numeric" } }}
          />
        </div>
        <FormControlLabel
          control={<Switch checked={force} onChange={(e) => setForce(e.target.checked)} />}
          label={force ? "In force: people over it are held" : "Not in force: nobody is held by it"}
        />
      </div>
      <Failure error={save.error} />
      <div className="acts">
        <Button variant="contained" disabled={save.isPending} onClick={() => save.mutate()}>
          Save as the next version
        </Button>
      </div>
    </>
  );
}

export function RulesPage() {
  const { slips } = useClearanceSlips();
  const rules = useQuery({ queryKey: ["rules"], queryFn: () => ok(api.GET("/api/rules")) });
  return (
    <Frame slips={slips}>
      <Loaded query={rules}>{(r) => <Cap key={r.id} rules={r} />}</Loaded>
    </Frame>
  );
}
