import { Button, MenuItem, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, date, instant, plural } from "../../shared/format";
import { NumberBox } from "../../shared/NumberBox";
import { Failure, Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { DAY } from "../../shared/time";
import { deliverySlips } from "./slips";
import { WarmUpDays } from "./WarmUpDays";

type View = Schemas["WarmUpsView"];
type WarmUp = Schemas["WarmUpView"];
type Group = Schemas["WarmUpGroup"];
type Rule = Schemas["WarmUpRule"];

const limited = (w: WarmUp) => w.groups.filter((g) => g.today.ceiling != null);

/** What a warm-up does today, in a sentence. */
function Sentence({ w, today }: { w: WarmUp; today: number }) {
  const under = limited(w);
  const waiting = w.groups.reduce((n, g) => n + g.waiting, 0);
  const last = Math.max(...w.groups.map((g) => g.last ?? 0));
  const day = today - Math.floor(w.began_at / DAY) + 1;
  return (
    <p className="finding">
      <em>{w.domain}</em>, day {count(day)}:{" "}
      {under.length === 0
        ? "no group has a ceiling"
        : `today ${plural(under.length, "group gets", "groups get")} ${count(under.reduce((n, g) => n + (g.today.ceiling ?? 0), 0))} messages at most, ${count(under.reduce((n, g) => n + g.today.handed, 0))} have gone`}
      {waiting > 0
        ? `; ${plural(waiting, "person waits", "people wait")}, the last until ${date(last * DAY)} if all goes well.`
        : "; nobody waits."}
    </p>
  );
}

/** Ends a warm-up before its time. */
function End({ w }: { w: WarmUp }) {
  const [reason, setReason] = useState("");
  const end = useMutation({
    mutationFn: () =>
      ok(api.POST("/api/delivery/warm-ups/{id}/end", { params: { path: { id: w.id } }, body: { reason } })),
  });
  return (
    <form
      className="acts"
      onSubmit={(e) => {
        e.preventDefault();
        end.mutate();
      }}
    >
      <TextField
        size="small"
        label="End it now, because"
        value={reason}
        onChange={(e) => setReason(e.target.value)}
        style={{ width: "26em" }}
        slotProps={{ htmlInput: { maxLength: 500 } }}
      />
      <Button type="submit" variant="outlined" size="small" disabled={end.isPending || reason.trim().length < 5}>
        End the warm-up
      </Button>
      <Failure error={end.error} />
    </form>
  );
}

/** How a rule is entered. */
function RuleBoxes({ r, set }: { r: Rule; set: (r: Rule) => void }) {
  return (
    <span>
      {" "}
      with{" "}
      <NumberBox
        label="Messages on the first day"
        value={r.start}
        min={10}
        max={100_000}
        onChange={(n) => set({ ...r, start: n })}
      />{" "}
      messages a day to each mailbox group, and{" "}
      <NumberBox
        label="Percent more after a good day"
        value={Math.round((r.factor - 1) * 100)}
        min={5}
        max={200}
        onChange={(n) => set({ ...r, factor: 1 + n / 100 })}
      />{" "}
      % more after each good day
    </span>
  );
}

/** Begins a warm-up. */
function Begin({ v }: { v: View }) {
  const free = v.domains.filter((d) => d.warm_up == null);
  const [chosen, setDomain] = useState<string>();
  const domain = chosen ?? (free.find((d) => d.first_at == null) ?? free[0])?.domain ?? "";
  const [rule, setRule] = useState(v.usual);
  const begin = useMutation({
    mutationFn: () => ok(api.POST("/api/delivery/warm-ups", { body: { domain, ...rule } })),
  });
  if (free.length === 0) return null;
  return (
    <section aria-label="Warm a name up">
      <h2>Warm a name up</h2>
      <p className="soft" style={{ maxWidth: "62em" }}>
        Those go first who answer most; the others wait for a later day, at the same time of day. A day is good when
        half of its ceiling went, and what was blocked (3%), put off (10%) and complained of (0.1%) is within the marks;
        else the ceiling stays, or halves where far more came back. It ends by itself at each group once its ceiling is
        over what a usual day brings. Service mail is counted and never waits. Days are in UTC.
      </p>
      <form
        className="acts"
        onSubmit={(e) => {
          e.preventDefault();
          begin.mutate();
        }}
      >
        <TextField
          select
          size="small"
          label="Sending domain"
          value={domain}
          onChange={(e) => setDomain(e.target.value)}
          style={{ width: "20em" }}
        >
          {free.map((d) => (
            <MenuItem key={d.domain} value={d.domain}>
              {d.domain}
            </MenuItem>
          ))}
        </TextField>
        <RuleBoxes r={rule} set={setRule} />
        <Button type="submit" variant="contained" size="small" disabled={begin.isPending || !domain}>
          Begin
        </Button>
        <Failure error={begin.error} />
      </form>
    </section>
  );
}

/** A warm-up that goes on. */
function Open({ w, today }: { w: WarmUp; today: number }) {
  return (
    <section aria-label={`Warm-up of ${w.domain}`}>
      <Sentence w={w} today={today} />
      <WarmUpDays w={w} today={today} />
      <DataTable<Group>
        name={`Groups of ${w.domain}`}
        rows={w.groups}
        id={(g) => g.name}
        columns={(col) => [
          col.text("Group", (g) => g.name),
          col.number("Ceiling today", (g) => g.today.ceiling ?? null),
          col.number("Gone today", (g) => g.today.handed),
          col.number("Wait", (g) => g.waiting),
          col.day("Last one on", (g) => (g.last == null ? null : g.last * DAY), ""),
          col.number("Usual day", (g) => g.usual),
          col.text("Why", (g) => g.because),
        ]}
      />
      <p className="soft small">
        Begun {instant(w.began_at)}
        {w.began_by ? ` by ${w.began_by}` : ""}: {count(w.rule.start)} a day at first,{" "}
        {Math.round((w.rule.factor - 1) * 100)}% more after a good day.
      </p>
      <End w={w} />
    </section>
  );
}

/** Names that hosts don't know yet, and how they get to know them. */
export function WarmUpPage() {
  const all = useQuery({ queryKey: ["warm-ups"], queryFn: () => ok(api.GET("/api/delivery/warm-ups")) });
  return (
    <Frame slips={deliverySlips}>
      <Loaded query={all}>
        {(v) => {
          const open = v.warm_ups.filter((w) => w.ended_at == null);
          const over = v.warm_ups.filter((w) => w.ended_at != null);
          return (
            <>
              <div className="crumb">
                <span>Delivery</span>
              </div>
              <h1>Warm-up</h1>
              {open.map((w) => (
                <Open key={w.id} w={w} today={v.today} />
              ))}
              {open.length === 0 && <p className="finding">No name is being warmed up.</p>}
              <p className="soft" style={{ maxWidth: "62em" }}>
                What hosts don’t know they let in little by little: a domain that has never sent mail and sends to
                everybody at once looks like one that was made for it.
              </p>
              <Begin v={v} />
              {v.domains.length === 0 ? (
                <p>
                  Nothing sends mail yet: <Link to="/setup/letterheads/0">make a letterhead</Link> first.
                </p>
              ) : (
                <>
                  <h2>What we send from</h2>
                  <DataTable<Schemas["SendingDomain"]>
                    name="Sending domains"
                    rows={v.domains}
                    id={(d) => d.domain}
                    columns={(col) => [
                      col.text("Domain", (d) => d.domain),
                      col.text("Letterheads", (d) => d.letterheads.join(", ")),
                      col.day("First mail", (d) => d.first_at, "none yet"),
                      col.text("Warm-up", (d) => (d.warm_up == null ? "" : "goes on")),
                    ]}
                  />
                </>
              )}
              {over.length > 0 && (
                <>
                  <h2>Over</h2>
                  <DataTable<WarmUp>
                    name="Warm-ups that are over"
                    rows={over}
                    id={(w) => w.id}
                    columns={(col) => [
                      col.text("Domain", (w) => w.domain),
                      col.when("Begun", (w) => w.began_at),
                      col.when("Ended", (w) => w.ended_at),
                      col.text("How", (w) =>
                        w.ended_by
                          ? `by ${w.ended_by}: ${w.reason ?? ""}`
                          : "by itself: every group gets its usual day",
                      ),
                    ]}
                  />
                </>
              )}
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
