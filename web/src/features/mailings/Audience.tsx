import { MenuItem, TextField } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { count, instant, percent, plural } from "../../shared/format";
import { CELLS, cellWords } from "../../shared/load";
import type { Draft } from "./draft";
import { useAudience } from "./useAudience";

type Group = Schemas["Group"];
type Named = { id: number; name: string };
const same = (a: Group, b: Group) => a.kind === b.kind && a.id === b.id;

/** What the mailing is to the rules: marketing, or something its recipients expect; and whom it leaves out. */
export function Class({ d, setD }: { d: Draft; setD: (d: Draft) => void }) {
  const [service, setService] = useState(!!d.service_reason);
  const [choosing, setChoosing] = useState((d.leave_out ?? []).length > 0);
  const out = d.leave_out ?? [];
  return (
    <>
      <label>
        <input
          type="checkbox"
          checked={service}
          onChange={(e) => {
            setService(e.target.checked);
            if (!e.target.checked) setD({ ...d, service_reason: "", complainers_reason: "" });
          }}
        />{" "}
        A service mailing: its recipients expect it, as they do a receipt, a booking or a security notice
      </label>
      {service && (
        <div className="two">
          <TextField
            label="Why its recipients expect it"
            value={d.service_reason ?? ""}
            helperText="It goes to people without consent, over caps and outside hours, so the reason stays on record"
            onChange={(e) => setD({ ...d, service_reason: e.target.value })}
          />
          <TextField
            label="Why people who complained get it too"
            value={d.complainers_reason ?? ""}
            helperText="Empty: they don't. Only what law requires, and only an approver can say so"
            onChange={(e) => setD({ ...d, complainers_reason: e.target.value })}
          />
        </div>
      )}
      {!service && (
        <div>
          <button className="plain" onClick={() => setChoosing(!choosing)} aria-expanded={choosing}>
            {out.length > 0
              ? `Leaves out people with ${out.map(cellWords).join("; ")}`
              : "Leave out people by their mail load"}
          </button>
          {choosing && (
            <div style={{ marginTop: 6 }}>
              {CELLS.map((cell) => (
                <label key={cell} style={{ display: "inline-block", width: 210 }}>
                  <input
                    type="checkbox"
                    checked={out.includes(cell)}
                    onChange={(e) =>
                      setD({ ...d, leave_out: e.target.checked ? [...out, cell] : out.filter((c) => c !== cell) })
                    }
                  />{" "}
                  {cellWords(cell)}
                </label>
              ))}
            </div>
          )}
        </div>
      )}
    </>
  );
}

/** Lists and segments as removable words, and one to add. */
function Groups({
  label,
  chosen,
  set,
  lists,
  segments,
}: {
  label: string;
  chosen: Group[];
  set: (g: Group[]) => void;
  lists: Named[];
  segments: Named[];
}) {
  const all: { group: Group; name: string }[] = [
    ...lists.map((l) => ({ group: { kind: "list" as const, id: l.id }, name: `list ${l.name}` })),
    ...segments.map((s) => ({ group: { kind: "segment" as const, id: s.id }, name: `segment ${s.name}` })),
  ];
  const rest = all.filter((x) => !chosen.some((g) => same(g, x.group)));
  return (
    <div>
      <TextField select label={label} value="" onChange={(e) => set([...chosen, rest[Number(e.target.value)]!.group])}>
        {rest.map((x, i) => (
          <MenuItem key={x.name} value={i}>
            {x.name}
          </MenuItem>
        ))}
      </TextField>
      <div className="small" style={{ marginTop: 4 }}>
        {chosen.map((g) => {
          const name = all.find((x) => same(x.group, g))?.name ?? "one that is gone";
          return (
            <button
              key={`${g.kind}${g.id}`}
              className="plain"
              style={{ marginRight: 12 }}
              aria-label={`Take ${name} out`}
              onClick={() => set(chosen.filter((x) => !same(x, g)))}
            >
              {name} ×
            </button>
          );
        })}
      </div>
    </div>
  );
}

function Parts({ title, parts, all }: { title: string; parts: Schemas["Portion"][]; all: number }) {
  return (
    <div>
      <h2>{title}</h2>
      {parts.map((p) => (
        <div key={p.name} style={{ display: "flex", gap: 10, alignItems: "center" }}>
          <span style={{ width: 150 }}>{p.name || "all others"}</span>
          <svg width="100" height="10" style={{ flexShrink: 0 }} aria-hidden="true">
            <rect width={Math.max(1, (100 * p.people) / Math.max(1, all))} height="10" fill="var(--deep)" />
          </svg>
          <span className="soft small" style={{ whiteSpace: "nowrap" }}>
            {count(p.people)}, {percent(p.people / Math.max(1, all))}
          </span>
        </div>
      ))}
    </div>
  );
}

/** Whom the mailing is meant for, by which hosts and clocks, and what else they get that week. */
export function AudienceSection({
  d,
  setD,
  mailing,
  at,
}: {
  d: Draft;
  setD: (d: Draft) => void;
  mailing: number | null;
  at: number | null;
}) {
  const segments = useQuery(queries.segments).data ?? [];
  const lists = useQuery(queries.lists).data ?? [];
  const look = useAudience(d, at, mailing);
  const pick = (
    label: string,
    value: number | null | undefined,
    options: Named[],
    none: string,
    set: (v: number | null) => void,
  ) => (
    <TextField
      select
      label={label}
      value={value ?? ""}
      onChange={(e) => set(e.target.value === "" ? null : Number(e.target.value))}
      slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
    >
      <MenuItem value="">{none}</MenuItem>
      {options.map((o) => (
        <MenuItem key={o.id} value={o.id}>
          {o.name}
        </MenuItem>
      ))}
    </TextField>
  );
  const l = look.data;
  const crowded = (l?.overlaps ?? []).filter((o) => o.people > 0);
  return (
    <div className="fields">
      <div className="two">
        {pick("Audience", d.list_id, lists, (d.also ?? []).length ? "No list of its own" : "Everyone", (v) =>
          setD({ ...d, list_id: v }),
        )}
        {pick("Only those in", d.segment_id, segments, "No segment", (v) => setD({ ...d, segment_id: v }))}
        <Groups
          label="People of these too"
          chosen={d.also ?? []}
          set={(also) => setD({ ...d, also })}
          lists={lists}
          segments={segments}
        />
        <Groups
          label="Nobody of these"
          chosen={d.without ?? []}
          set={(without) => setD({ ...d, without })}
          lists={lists}
          segments={segments}
        />
        <TextField
          select
          label="People over a cap"
          value={d.over_cap}
          onChange={(e) => setD({ ...d, over_cap: e.target.value as Draft["over_cap"] })}
        >
          <MenuItem value="hold">are held until every cap allows it</MenuItem>
          <MenuItem value="skip">don't get this mailing</MenuItem>
          <MenuItem value="exceed">get it all the same (an approver says why)</MenuItem>
        </TextField>
        {d.over_cap === "exceed" ? (
          <TextField
            label="Why it may exceed the caps"
            value={d.exceed_reason ?? ""}
            onChange={(e) => setD({ ...d, exceed_reason: e.target.value })}
          />
        ) : (
          <TextField
            label="Held for at most, days"
            value={d.hold_days ?? 7}
            onChange={(e) => setD({ ...d, hold_days: Math.floor(Number(e.target.value) || 0) })}
            slotProps={{ htmlInput: { inputMode: "numeric" } }}
          />
        )}
        <TextField
          select
          label="Priority"
          value={d.priority ?? 3}
          onChange={(e) => setD({ ...d, priority: Number(e.target.value) })}
        >
          <MenuItem value={1}>1, goes first</MenuItem>
          <MenuItem value={2}>2</MenuItem>
          <MenuItem value={3}>3</MenuItem>
          <MenuItem value={4}>4</MenuItem>
          <MenuItem value={5}>5, gives way</MenuItem>
        </TextField>
      </div>
      <Class d={d} setD={setD} />
      {look.isError && <p className="note bad">{look.error.message}</p>}
      {l && (
        <div data-testid="audience">
          <p className="finding">
            It is meant for <em>{plural(l.people, "person", "people")}</em>
            {l.without_zone > 0 &&
              `; the clock of ${count(l.without_zone)} isn't known, so the letterhead's counts for them`}
            .
          </p>
          <p className="soft">
            Before any rule.{" "}
            {mailing !== null && <Link to={`/clearance/${mailing}`}>Who would get it, rule by rule</Link>}
          </p>
          <div className="two">
            <Parts title="By mail domain" parts={l.domains} all={l.people} />
            <Parts title="By time zone" parts={l.zones} all={l.people} />
          </div>
          <h2>What else they get that week</h2>
          {crowded.length === 0 && <p className="soft">No other mailing within seven days of it.</p>}
          {crowded.map((o) => (
            <p key={o.mailing} style={{ margin: "2px 0" }}>
              {instant(o.at)}: <Link to={`/mailings/${o.mailing}`}>{o.name}</Link>{" "}
              <span className="soft">
                to {count(o.people)} of them, {percent(o.people / Math.max(1, l.people))}
              </span>
            </p>
          ))}
        </div>
      )}
    </div>
  );
}
