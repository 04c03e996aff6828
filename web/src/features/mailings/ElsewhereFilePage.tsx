import { Button, Checkbox, FormControlLabel, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { everything } from "../../api/cache";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, date, instant, plural, words } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { PreviewTable } from "../../shared/table/PreviewTable";
import { useProgress } from "../../shared/useProgress";
import { useWorking } from "../../shared/working";
import { file, STATE } from "./history";
import { useMailingSlips } from "./useMailingSlips";

type Mapping = Schemas["HistoryMapping"];
type Preview = Schemas["HistoryPreview"];

const EVENTS = [
  "address",
  "mailing",
  "subject",
  "kind",
  "at",
  "agent",
  "link",
  "reply",
  "amount",
  "currency",
  "key",
] as const;
const MAILINGS = ["key", "name", "subject", "topic", "sent_at", "size"] as const;

/** What a column of a log is, in words. */
const COLUMN: Record<string, string> = {
  mailing: "the mailing’s key or name",
  subject: "the mailing’s subject",
  kind: "what happened",
  at: "when",
  agent: "the program that fetched",
  reply: "what the host said",
  key: "key",
  size: "how many it went to",
};

/** A column is what was chosen; another that was the same is left out. */
function mapped(mapping: Mapping, i: number, to: string): Mapping {
  const next = (columns: readonly (string | null | undefined)[]) =>
    columns.map((c, j) => (j === i ? to || null : c === to ? null : (c ?? null)));
  return { ...mapping, columns: next(mapping.columns) } as Mapping;
}

/** A file of another system: what its columns are, what it would do, and the way back. */
export function ElsewhereFilePage() {
  const id = Number(useParams().id);
  const { slips } = useMailingSlips();
  const preview = useQuery(file(id));
  return (
    <Frame slips={slips}>
      <Loaded query={preview}>{(p) => <File key={`${id}-${p.file.state}`} preview={p} />}</Loaded>
    </Frame>
  );
}

function File({ preview }: { preview: Preview }) {
  const { file: f } = preview;
  const path = { id: f.id };
  const [mapping, setMapping] = useState<Mapping>(f.mapping);
  const [header, setHeader] = useState(f.header);
  const [zone, setZone] = useState(f.zone ?? "");
  const [monthFirst, setMonthFirst] = useState(f.month_first);
  const [newcomers, setNewcomers] = useState(f.newcomers);
  const [unnamed, setUnnamed] = useState(f.unnamed);
  const [bySubject, setBySubject] = useState(f.by_subject);
  const { show } = useWorking();
  const running = f.state === "applying" || f.state === "undoing";
  const progress = useProgress(`history-${f.id}`, everything, running);
  const decision = {
    mapping,
    header,
    zone: zone || null,
    month_first: monthFirst,
    newcomers,
    unnamed,
    by_subject: bySubject,
  };
  const decided = JSON.stringify(decision);
  const stored = JSON.stringify({
    mapping: f.mapping,
    header: f.header,
    zone: f.zone ?? null,
    month_first: f.month_first,
    newcomers: f.newcomers,
    unnamed: f.unnamed,
    by_subject: f.by_subject,
  });
  const check = useMutation({
    mutationFn: () => ok(api.POST("/api/history/{id}/check", { params: { path }, body: decision })),
  });
  const apply = useMutation({ mutationFn: () => ok(api.POST("/api/history/{id}/apply", { params: { path } })) });
  const stop = useMutation({ mutationFn: () => ok(api.POST("/api/history/{id}/stop", { params: { path } })) });
  const undo = useMutation({
    mutationFn: () => ok(api.POST("/api/history/{id}/undo", { params: { path } })),
    onSuccess: () => {
      show(null);
    },
  });
  const open = f.state === "staged" || f.state === "checked";
  const events = mapping.of === "events";
  const steps = events ? 2 * f.records : f.records;
  const found = f.found;
  const askBack = () =>
    show({
      title: `Take back ${f.file_name}?`,
      body: (
        <>
          <p>
            What it told of messages and answers goes, the mailings and people that only it brought go with it. Who left
            or complained by it stays as they are: they are not written to.
          </p>
          <Button variant="outlined" color="error" onClick={() => undo.mutate()}>
            Take it back
          </Button>
        </>
      ),
    });
  return (
    <>
      <div className="crumb">
        <span>Sent elsewhere</span>
        <span>{f.file_name}</span>
        <span>{STATE[f.state] ?? f.state}</span>
      </div>
      <h1>{f.file_name}</h1>
      <p className="finding" data-testid="history-finding">
        {f.state === "staged" && (
          <>
            <em>{plural(f.records, "row")}</em>
            {events ? " of events." : " of mailings."} Say what the columns are, then look what would happen.
          </>
        )}
        {f.state === "checked" && (
          <>
            It would bring <em>{count(found.new)}</em> of {plural(f.records, "row")} in; {count(found.known)}{" "}
            {found.known === 1 ? "is" : "are"} there already, {count(found.refused)} would be refused.
          </>
        )}
        {f.state === "applying" && (
          <>
            Being taken in: {count(progress?.done ?? f.done)} of {count(steps)}
            {events && " (each row is passed twice: what was sent first, then the answers)"}.
          </>
        )}
        {f.state === "cancelled" && f.done === 0 && "Put away: nothing of it was taken in."}
        {(f.state === "applied" || (f.state === "cancelled" && f.done > 0)) && (
          <>
            {f.state === "cancelled" && `Stopped after ${count(f.done)} of ${count(steps)}. `}
            <em>{count(f.new)}</em> {f.new === 1 ? "row was" : "rows were"} new, {count(f.known)} there already,{" "}
            {count(f.refused)} refused.
          </>
        )}
        {f.state === "undoing" && "Being taken back."}
        {f.state === "undone" && `Taken back ${instant(f.undone_at)}.`}
      </p>
      {f.state === "applying" && (
        <div className="bar">
          <i style={{ width: `${(100 * (progress?.done ?? f.done)) / Math.max(1, steps)}%` }} />
        </div>
      )}
      <Failure
        error={
          check.error ?? apply.error ?? stop.error ?? undo.error ?? (progress?.error ? new Error(progress.error) : null)
        }
      />
      {f.state === "checked" && <Found found={found} />}
      {open && (
        <div className="fields">
          <div className="two">
            {preview.asks_zone && (
              <TextField
                label="Time zone of its times"
                placeholder="Europe/Oslo"
                value={zone}
                onChange={(e) => setZone(e.target.value)}
                helperText="They are written without one."
              />
            )}
            {preview.asks_month_first && (
              <FormControlLabel
                control={<Checkbox checked={monthFirst} onChange={(e) => setMonthFirst(e.target.checked)} />}
                label="In its dates the month stands first"
              />
            )}
          </div>
          <div>
            {events && (
              <>
                <FormControlLabel
                  control={<Checkbox checked={unnamed} onChange={(e) => setUnnamed(e.target.checked)} />}
                  label="Make mailings that no table told of, under their key"
                />
                {(found.proposed_in_all > 0 || bySubject) && (
                  <FormControlLabel
                    control={<Checkbox checked={bySubject} onChange={(e) => setBySubject(e.target.checked)} />}
                    label="Its mailings are those proposed above, by subject and hour"
                  />
                )}
                <FormControlLabel
                  control={<Checkbox checked={newcomers} onChange={(e) => setNewcomers(e.target.checked)} />}
                  label="Keep people whom the base lacks, without consent"
                />
              </>
            )}
            <FormControlLabel
              control={<Checkbox checked={header} onChange={(e) => setHeader(e.target.checked)} />}
              label="The first row is a header"
            />
          </div>
        </div>
      )}
      <div className="acts">
        {open && (
          <Button
            variant={f.state === "staged" || decided !== stored ? "contained" : "outlined"}
            disabled={check.isPending}
            onClick={() => check.mutate()}
          >
            {check.isPending
              ? `Looking … ${count(progress?.done ?? 0)}`
              : f.state === "staged"
                ? "Look what would happen"
                : "Look again"}
          </Button>
        )}
        {f.state === "checked" && (
          <Button
            variant={decided === stored ? "contained" : "outlined"}
            disabled={found.new === 0 || apply.isPending || decided !== stored}
            onClick={() => apply.mutate()}
          >
            Take {count(found.new)} in
          </Button>
        )}
        {f.state === "applying" && (
          <Button variant="outlined" onClick={() => stop.mutate()}>
            Stop
          </Button>
        )}
        {open && (
          <Button variant="text" onClick={() => stop.mutate()}>
            Put this file away
          </Button>
        )}
        {(f.state === "applied" || (f.state === "cancelled" && f.done > 0)) && (
          <button className="plain" onClick={askBack}>
            Take back<span className="away"> {f.file_name}</span>
          </button>
        )}
        {(f.state === "checked" ? found.refused : f.refused) > 0 && (
          <a href={`/api/history/${f.id}/refused.csv`}>Refused rows with reasons, as CSV</a>
        )}
      </div>
      {preview.rows.length === 0 ? (
        <p className="soft">The file was deleted, because a person in the base was deleted at their wish since.</p>
      ) : (
        <h2>The first {count(preview.rows.length)} rows as they would land</h2>
      )}
      <PreviewTable
        columns={preview.columns}
        rows={preview.rows}
        refusals={preview.refusals}
        taken={(i) => !!mapping.columns[i]}
        open={open}
        value={(i) => mapping.columns[i] ?? ""}
        choose={(i, to) => setMapping(mapped(mapping, i, to))}
        options={() =>
          (events ? EVENTS : MAILINGS).map((k) => (
            <option key={k} value={k}>
              {COLUMN[k] ?? words(k)}
            </option>
          ))
        }
      />
    </>
  );
}

/** What was found in a file. */
function Found({ found }: { found: Schemas["HistoryFound"] }) {
  const kinds = Object.entries(found.kinds);
  const reasons = Object.entries(found.reasons);
  return (
    <>
      {kinds.length > 0 && (
        <p>
          {found.first_at != null && `${date(found.first_at)} to ${date(found.last_at)}: `}
          {kinds.map(([k, n]) => `${count(n)} ${k}`).join(", ")}, of {plural(found.people, "address", "addresses")}
          {found.missing_people > 0 && `, ${count(found.missing_people)} of them of nobody in the base`}.
        </p>
      )}
      {kinds.length > 0 && !found.accepts && (
        <p className="note">It doesn’t say what hosts accepted: what didn’t bounce counts as accepted.</p>
      )}
      {found.kinds.opened !== undefined && !found.agents && (
        <p className="note warn">
          No agents in this log: scanners can’t be taken out, and opens are shown as reported only.
        </p>
      )}
      {found.unchecked && (
        <p className="note">
          It is so large that answers to messages which nothing says were sent are found only as it is taken in. They
          are refused then.
        </p>
      )}
      {found.proposed_in_all > 0 && (
        <p className="note">
          It names no mailings. By subject and hour they {found.proposed_in_all === 1 ? "would be one" : "would be"}{" "}
          {found.proposed_in_all > 1 && count(found.proposed_in_all)}:{" "}
          {found.proposed
            .slice(0, 8)
            .map((p) => `“${p.subject}” from ${instant(p.from)} (${plural(p.rows, "message")})`)
            .join(", ")}
          {found.proposed_in_all > 8 && " …"}. Say so below when they are.
        </p>
      )}
      {found.unknown_mailings.length > 0 && (
        <p className="note warn">
          No table told of{" "}
          {found.unknown_mailings.length === 30 ? "many mailings" : plural(found.unknown_mailings.length, "mailing")}:{" "}
          {found.unknown_mailings
            .slice(0, 8)
            .map((m) => `${m.key || "(no key)"} (${plural(m.rows, "row")}, from ${instant(m.first_at)})`)
            .join(", ")}
          {found.unknown_mailings.length > 8 && " …"}. Bring that table first, or have them made under their keys.
        </p>
      )}
      {reasons.length > 0 && (
        <ul>
          {reasons.map(([why, n]) => (
            <li key={why}>
              {plural(n, "row")}: {why}
            </li>
          ))}
        </ul>
      )}
    </>
  );
}
