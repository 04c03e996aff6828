import { Button, Checkbox, FormControlLabel, MenuItem, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { clock, instant, plural } from "../../shared/format";
import { Failure } from "../../shared/states";
import { WEEKDAYS } from "../../shared/time";

type Letters = Schemas["ViewLetters"];

/** Whom a saved view is mailed to each week, as a PDF. */
export function ViewLetters({ view, close }: { view: number; close: () => void }) {
  const people = useQuery(queries.people).data;
  const letterheads = useQuery(queries.letterheads).data;
  const asked = useQuery({
    queryKey: ["letters", view],
    queryFn: () => ok(api.GET("/api/findings/views/{id}/letters", { params: { path: { id: view } } })),
  });
  const [changed, setChanged] = useState<Partial<Letters>>({});
  const save = useMutation({
    mutationFn: (body: Letters) =>
      ok(api.PUT("/api/findings/views/{id}/letters", { params: { path: { id: view } }, body })),
    onSuccess: () => setChanged({}),
  });
  if (!people || !letterheads || asked.data === undefined) return <Failure error={asked.error} />;
  const now = asked.data;
  const l: Letters = {
    people: now?.people ?? [],
    letterhead_id: now?.letterhead_id ?? letterheads[0]?.id ?? 0,
    weekday: now?.weekday ?? 0,
    minute: now?.minute ?? 480,
    ...changed,
  };
  const under = letterheads.find((x) => x.id === l.letterhead_id);
  const put = (id: number, on: boolean) =>
    setChanged({ ...changed, people: on ? [...l.people, id] : l.people.filter((p) => p !== id) });
  return (
    <section className="note" aria-label="Mailed each week">
      <b>Mailed each week</b>
      <p className="soft" style={{ margin: "2px 0 6px" }}>
        {now?.next_at
          ? `The next ${now.people.length === 1 ? "letter goes" : "letters go"} ${instant(now.next_at)} UTC, to ${plural(now.people.length, "person", "people")}.`
          : "It is mailed to nobody yet."}{" "}
        The view comes as a PDF; these letters are counted in no figure.
      </p>
      {people.map((p) => (
        <FormControlLabel
          key={p.id}
          control={
            <Checkbox
              size="small"
              checked={l.people.includes(p.id)}
              disabled={!p.address && !l.people.includes(p.id)}
              onChange={(e) => put(p.id, e.target.checked)}
            />
          }
          label={p.address ? p.name : `${p.name} (no address)`}
        />
      ))}
      {people.some((p) => !p.address) && (
        <span className="soft small">
          Addresses stand in <Link to="/setup/people">Setup, under People</Link>.
        </span>
      )}
      <div style={{ display: "flex", gap: 12, flexWrap: "wrap", margin: "10px 0" }}>
        <TextField
          select
          size="small"
          label="On"
          value={l.weekday}
          onChange={(e) => setChanged({ ...changed, weekday: Number(e.target.value) })}
        >
          {WEEKDAYS.map((d, i) => (
            <MenuItem key={d} value={i}>
              {d}
            </MenuItem>
          ))}
        </TextField>
        <TextField
          select
          size="small"
          label="At"
          value={l.minute}
          helperText={under && `by the clock of ${under.zone}`}
          onChange={(e) => setChanged({ ...changed, minute: Number(e.target.value) })}
        >
          {Array.from({ length: 24 }, (_, h) => (
            <MenuItem key={h} value={h * 60}>
              {clock(h * 60)}
            </MenuItem>
          ))}
        </TextField>
        <TextField
          select
          size="small"
          label="From"
          value={l.letterhead_id}
          onChange={(e) => setChanged({ ...changed, letterhead_id: Number(e.target.value) })}
        >
          {letterheads.map((x) => (
            <MenuItem key={x.id} value={x.id}>
              {x.name}
            </MenuItem>
          ))}
        </TextField>
      </div>
      <Failure error={save.error} />
      <div className="acts" style={{ margin: 0 }}>
        <Button variant="outlined" disabled={save.isPending} onClick={() => save.mutate(l)}>
          {l.people.length === 0
            ? "Mail it to nobody"
            : `Mail it to ${plural(l.people.length, "person", "people")} each week`}
        </Button>
        <Button onClick={close}>Close</Button>
      </div>
      {now && (now.last ?? []).length > 0 && (
        <p className="soft small">
          Last: {(now.last ?? []).map((x) => `${x.name}, ${instant(x.at)}: ${x.reply || "on its way"}`).join("; ")}
        </p>
      )}
    </section>
  );
}
