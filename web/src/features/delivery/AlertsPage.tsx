import { Button, Checkbox, FormControlLabel } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, plural } from "../../shared/format";
import { NumberBox } from "../../shared/NumberBox";
import { Failure, Loaded } from "../../shared/states";
import { AlertNote } from "./AlertNote";
import { deliverySlips } from "./slips";

type Rule = Schemas["PauseRule"];

/** When a mailbox group is paused by itself. */
function RuleForm({ rule }: { rule: Rule }) {
  const [r, setRule] = useState(rule);
  const save = useMutation({ mutationFn: () => ok(api.PUT("/api/delivery/pause-rule", { body: r })) });
  const box = (label: string, value: number, min: number, max: number, set: (n: number) => Rule) => (
    <NumberBox label={label} value={value} min={min} max={max} onChange={(n) => setRule(set(n))} />
  );
  return (
    <section aria-label="When a group is paused by itself">
      <h2>When a group is paused by itself</h2>
      <p className="soft" style={{ maxWidth: "62em" }}>
        Nothing of it counts against an address. Besides, whatever is set here, a host that asks for less gets less:
        half the pace after each run of blocks or deferrals, a step more after each clean minute.
      </p>
      <div className="acts">
        <FormControlLabel
          control={<Checkbox checked={r.on} onChange={(e) => setRule({ ...r, on: e.target.checked })} />}
          label="Pause by itself"
        />
        <span>
          when over {box("Percent blocked", Math.round(r.share * 100), 1, 100, (n) => ({ ...r, share: n / 100 }))} % and
          at least {box("Messages blocked", r.least, 5, 100_000, (n) => ({ ...r, least: n }))} messages of an hour are
          blocked, for {box("Hours of pause", r.hours, 1, 72, (n) => ({ ...r, hours: n }))} hours
        </span>
        <Button variant="contained" size="small" disabled={save.isPending} onClick={() => save.mutate()}>
          Keep
        </Button>
        {save.isSuccess && <span className="soft">Kept.</span>}
      </div>
      <Failure error={save.error} />
    </section>
  );
}

/** What mailbox groups did with our mail that they shouldn't, now and before. */
export function AlertsPage() {
  const alerts = useQuery({ queryKey: ["delivery-alerts"], queryFn: () => ok(api.GET("/api/delivery/alerts")) });
  const front = useQuery({ queryKey: ["delivery", undefined], queryFn: () => ok(api.GET("/api/delivery")) });
  const rule = useQuery({ queryKey: ["pause-rule"], queryFn: () => ok(api.GET("/api/delivery/pause-rule")) });
  return (
    <Frame slips={deliverySlips}>
      <Loaded query={alerts}>
        {(all) => {
          const open = all.filter((a) => a.ended_at == null);
          return (
            <>
              <div className="crumb">
                <span>Delivery</span>
              </div>
              <h1>Alerts</h1>
              <p className="finding">
                {all.length === 0 ? (
                  "No mailbox group has done anything out of the usual."
                ) : (
                  <>
                    <em>{plural(open.length, "alert")}</em> {open.length === 1 ? "is" : "are"} open
                    {all.length > open.length &&
                      `; ${count(all.length - open.length)} ${all.length - open.length === 1 ? "is" : "are"} over`}
                    .
                  </>
                )}
              </p>
              {all.map((a) => (
                <AlertNote
                  key={a.id}
                  a={a}
                  group={a.ended_at == null ? front.data?.groups.find((g) => g.name === a.group) : undefined}
                />
              ))}
            </>
          );
        }}
      </Loaded>
      <Loaded query={rule}>{(r) => <RuleForm rule={r} />}</Loaded>
    </Frame>
  );
}
