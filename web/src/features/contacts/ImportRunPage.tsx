import {
  Button,
  Checkbox,
  FormControlLabel,
  Table,
  TableBody,
  TableCell,
  TableHead,
  TableRow,
  TextField,
} from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, plural, words } from "../../shared/format";
import { EntityPick } from "../../shared/EntityPick";
import { Failure, Loaded } from "../../shared/states";
import { useProgress } from "../../shared/useProgress";
import { useContactSlips } from "./useContactSlips";
import { useVocabulary } from "../../shared/useVocabulary";
import { TakeBack } from "./Changes";
import { FINDINGS } from "./findings";

type Field = Schemas["ColumnField"];
const FIELDS = [
  "address",
  "given_name",
  "family_name",
  "phone",
  "country",
  "region",
  "time_zone",
  "source",
  "latitude",
  "longitude",
] as const;
const SCORE_PARTS = ["score_date", "score_source"] as const;
const KINDS = ["text", "number", "date", "yes_no", "choice"] as const;

/** A mapping as the value of a menu's entry, and back. */
type Own = Extract<Field, { own: unknown }>["own"];
const SCORE = "score:";
const keyOf = (f: Field | null | undefined) =>
  f == null ? "" : typeof f === "string" ? f : "own" in f ? JSON.stringify(f.own) : SCORE + f.score.name;
const fieldOf = (key: string): Field | null =>
  key === ""
    ? null
    : key.startsWith("{")
      ? { own: JSON.parse(key) as Own }
      : key.startsWith(SCORE)
        ? { score: { name: key.slice(SCORE.length) } }
        : (key as Field);
const DELIMITERS: Record<string, string> = { ",": "comma", ";": "semicolon", "\t": "tab", "|": "bar" };
const ENCODINGS: Record<string, string> = {
  utf8: "UTF-8",
  utf16_le: "UTF-16, little end first",
  utf16_be: "UTF-16, big end first",
  windows1252: "Latin-1",
};

/** Mapping, preview, dry run, apply. */
export function ImportRunPage() {
  const id = Number(useParams().id);
  const slips = useContactSlips();
  const preview = useQuery({
    queryKey: ["import", id],
    queryFn: () => ok(api.GET("/api/imports/{id}", { params: { path: { id } } })),
  });
  return (
    <Frame slips={slips}>
      <Loaded query={preview}>
        {(p) => <Run key={`${p.run.id}-${p.run.state}-${p.run.encoding}-${p.run.delimiter}`} preview={p} />}
      </Loaded>
    </Frame>
  );
}

function Run({ preview: { run, columns, kinds, rows, refusals, change } }: { preview: Schemas["Preview"] }) {
  const client = useQueryClient();
  const path = { id: run.id };
  const [mapping, setMapping] = useState(run.mapping);
  const [header, setHeader] = useState(run.header);
  const [list, setList] = useState(run.list ?? "");
  const [tag, setTag] = useState(run.tag ?? "");
  const own = useVocabulary().data?.fields ?? [];
  const [consent, setConsent] = useState(run.consent);
  const [texts, setTexts] = useState(run.texts);
  const [evidence, setEvidence] = useState(run.evidence);
  const [entity, setEntity] = useState(run.entity);
  const [fixes, setFixes] = useState(run.fixes);
  const numbers = mapping.some((m) => m === "phone");
  const scores = mapping.some((m) => keyOf(m).startsWith(SCORE));
  const refresh = () => client.invalidateQueries();
  const progress = useProgress(`import-${run.id}`, () => void refresh(), run.state === "applying");
  const check = useMutation({
    mutationFn: () =>
      ok(
        api.POST("/api/imports/{id}/check", {
          params: { path },
          body: scores
            ? { mapping, header, list: null, tag: null, consent: false, texts: false, entity: "", evidence: "", fixes }
            : {
                mapping,
                header,
                list: list || null,
                tag: tag || null,
                consent,
                texts: texts && numbers,
                entity,
                evidence,
                fixes,
              },
        }),
      ),
    onSuccess: refresh,
  });
  const apply = useMutation({
    mutationFn: () => ok(api.POST("/api/imports/{id}/apply", { params: { path } })),
    onSuccess: refresh,
  });
  const shape = useMutation({
    mutationFn: (body: Schemas["FileShape"]) => ok(api.POST("/api/imports/{id}/shape", { params: { path }, body })),
    onSuccess: refresh,
  });
  const cancel = useMutation({
    mutationFn: () => ok(api.POST("/api/imports/{id}/cancel", { params: { path } })),
    onSuccess: refresh,
  });
  const open = run.state === "staged" || run.state === "checked";
  const map = (i: number, key: string) =>
    setMapping(
      columns.map((_, j) => (j === i ? fieldOf(key) : keyOf(mapping[j]) === key ? null : (mapping[j] ?? null))),
    );
  /** Fields there are, and the one this column would make. */
  const choices = (i: number) => {
    const name = columns[i]!.trim().toLowerCase();
    const there = own.map((f) => ({
      key: JSON.stringify({ name: f.name, kind: f.kind }),
      label: f.name,
      kind: f.kind,
    }));
    const guessed = kinds[i] ?? "text";
    const order = [guessed, ...KINDS.filter((k) => k !== guessed)];
    const fresh = there.some((t) => t.label.toLowerCase() === name)
      ? []
      : order.map((kind) => ({ key: JSON.stringify({ name, kind }), label: `new field “${name}”`, kind }));
    const now = keyOf(mapping[i]);
    const all = [...there, ...fresh];
    const missing = now.startsWith("{") && !all.some((c) => c.key === now);
    const { name: n, kind: k } = (missing ? JSON.parse(now) : { name: "", kind: "text" }) as {
      name: string;
      kind: string;
    };
    return missing ? [...all, { key: now, label: n, kind: k }] : all;
  };
  const width = columns.length;
  /** The score this column is mapped to, or would make. */
  const scoreKey = (i: number) => {
    const now = keyOf(mapping[i]);
    return now.startsWith(SCORE) ? now : SCORE + columns[i]!.trim().toLowerCase();
  };
  // A checked run whose fixes were changed has to be checked again before it is applied.
  const stale = JSON.stringify(fixes) !== JSON.stringify(run.fixes);
  return (
    <>
      <div className="crumb">
        <span>Import, {open ? (run.state === "staged" ? "step 2 of 3" : "step 3 of 3") : run.state}</span>
        <span>{run.file_name}</span>
        <span>
          {open && !run.ndjson ? (
            <>
              <select
                className="bare"
                aria-label="Encoding of the file"
                value={run.encoding}
                onChange={(e) =>
                  shape.mutate({ encoding: e.target.value as Schemas["Encoding"], delimiter: run.delimiter })
                }
              >
                {Object.entries(ENCODINGS).map(([k, v]) => (
                  <option key={k} value={k}>
                    {v}
                  </option>
                ))}
              </select>
              ,{" "}
              <select
                className="bare"
                aria-label="Between fields stands a"
                value={run.delimiter}
                onChange={(e) => shape.mutate({ encoding: run.encoding, delimiter: e.target.value })}
              >
                {Object.entries(DELIMITERS).map(([k, v]) => (
                  <option key={k} value={k}>
                    {v}
                  </option>
                ))}
              </select>{" "}
              between fields, {header ? "first row is a header" : "no header"}
            </>
          ) : run.ndjson ? (
            "NDJSON, one object a line"
          ) : (
            <>
              {ENCODINGS[run.encoding]}, {DELIMITERS[run.delimiter]} between fields,{" "}
              {header ? "first row is a header" : "no header"}
            </>
          )}
        </span>
      </div>
      <h1>{run.file_name}</h1>
      <p className="finding" data-testid="import-finding">
        {run.state === "staged" && "Say what the columns are, then check what would happen."}
        {run.state === "checked" && (
          <>
            It would add <em>{count(run.new)}</em>, change {count(run.changed)}, leave {count(run.unchanged)} as they
            are, and refuse {count(run.refused)}.
          </>
        )}
        {run.state === "applying" && (
          <>
            Applying: {count(progress?.done ?? run.done)} of {count(run.records)} rows.
          </>
        )}
        {run.state === "applied" && (
          <>
            <em>{count(run.new)}</em> people were added, {count(run.changed)} changed, {count(run.refused)} rows
            refused.
          </>
        )}
        {run.state === "cancelled" && (
          <>Cancelled after {plural(run.done, "row")}. What was applied until then stays, unless you take it back.</>
        )}
        {run.state === "undone" && <>Taken back.</>}
      </p>
      {run.state === "applying" && (
        <div className="bar">
          <i style={{ width: `${(100 * (progress?.done ?? run.done)) / Math.max(1, run.records)}%` }} />
        </div>
      )}
      <Failure
        error={
          check.error ??
          apply.error ??
          cancel.error ??
          shape.error ??
          (progress?.error ? new Error(progress.error) : null)
        }
      />
      {change && (
        <p>
          <TakeBack run={change} />
        </p>
      )}
      {open && !scores && (
        <div className="fields">
          <div className="two">
            <TextField
              label="Put them on the list"
              value={list}
              onChange={(e) => setList(e.target.value)}
              helperText="Made when it is new. Empty: no list."
            />
            <TextField
              label="Tag them"
              value={tag}
              onChange={(e) => setTag(e.target.value)}
              helperText="Made when it is new. Empty: no tag."
            />
          </div>
          <div className="two">
            <TextField
              label="How they agreed to get mail"
              value={evidence}
              disabled={!consent && !(texts && numbers)}
              onChange={(e) => setEvidence(e.target.value)}
              helperText="Kept as evidence with every person."
            />
            <EntityPick value={entity} disabled={!consent && !texts} onChange={setEntity} />
          </div>
          <div>
            <FormControlLabel
              control={<Checkbox checked={consent} onChange={(e) => setConsent(e.target.checked)} />}
              label="These people agreed to get marketing mail"
            />
            {numbers && (
              <FormControlLabel
                control={<Checkbox checked={texts} onChange={(e) => setTexts(e.target.checked)} />}
                label="They agreed to text messages to their numbers"
              />
            )}
            <FormControlLabel
              control={<Checkbox checked={header} onChange={(e) => setHeader(e.target.checked)} />}
              label="The first row is a header"
            />
          </div>
        </div>
      )}
      {open && scores && (
        <p className="note" style={{ maxWidth: "46em" }}>
          A file of scores: it changes nothing but the score of people who are here. The newest day is shown, earlier
          ones are kept.
        </p>
      )}
      {run.state === "checked" && !scores && <FileFindings run={run} fixes={fixes} setFixes={setFixes} />}
      <div className="acts">
        {open && (
          <Button
            variant={run.state === "staged" ? "contained" : "outlined"}
            disabled={check.isPending}
            onClick={() => check.mutate()}
          >
            {check.isPending
              ? `Checking … ${count(progress?.done ?? 0)}`
              : run.state === "staged"
                ? "Check"
                : "Check again"}
          </Button>
        )}
        {run.state === "checked" && (
          <Button
            variant="contained"
            disabled={run.new + run.changed === 0 || apply.isPending || stale}
            onClick={() => apply.mutate()}
          >
            Add {count(run.new)}, change {count(run.changed)}
          </Button>
        )}
        {run.state === "applying" && (
          <Button variant="outlined" onClick={() => cancel.mutate()}>
            Cancel the rest
          </Button>
        )}
        {open && (
          <Button variant="text" onClick={() => cancel.mutate()}>
            Drop this import
          </Button>
        )}
        {run.refused > 0 && (
          <a href={`/api/imports/${run.id}/refused.csv`}>{plural(run.refused, "refused row")} with reasons, as CSV</a>
        )}
        {run.state === "applied" && <Link to="/contacts">See the people</Link>}
      </div>
      {rows.length === 0 ? (
        <p className="soft">The file was deleted, because a person in the base was deleted at their wish since.</p>
      ) : (
        <h2>The first {count(rows.length)} rows as they would land</h2>
      )}
      <div className="scroll" hidden={rows.length === 0} tabIndex={0} role="region" aria-label="Preview">
        <Table stickyHeader>
          <TableHead>
            <TableRow>
              {columns.map((c, i) => (
                <TableCell key={i}>
                  {c}
                  <br />
                  <select
                    className="bare"
                    aria-label={`Column ${c} is`}
                    disabled={!open}
                    value={keyOf(mapping[i])}
                    onChange={(e) => map(i, e.target.value)}
                  >
                    <option value="">left out</option>
                    {FIELDS.map((f) => (
                      <option key={f} value={f}>
                        {words(f)}
                      </option>
                    ))}
                    <optgroup label="A score from elsewhere">
                      <option value={scoreKey(i)}>score “{scoreKey(i).slice(SCORE.length)}”</option>
                      {SCORE_PARTS.map((f) => (
                        <option key={f} value={f}>
                          {words(f)}
                        </option>
                      ))}
                    </optgroup>
                    <optgroup label="Fields of your own">
                      {choices(i).map((c) => (
                        <option key={c.key} value={c.key}>
                          {c.label}, {words(c.kind)}
                        </option>
                      ))}
                    </optgroup>
                  </select>
                </TableCell>
              ))}
              <TableCell>Refused because</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {rows.map((r, i) => (
              <TableRow key={i}>
                {Array.from({ length: width }, (_, j) => (
                  <TableCell key={j} className={mapping[j] ? "" : "soft"}>
                    {r[j]}
                  </TableCell>
                ))}
                <TableCell className="bad">{refusals[i]}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </div>
    </>
  );
}

type Fixes = Schemas["Fixes"];

/** What the base check says of the file, with the fixes to land it with. */
function FileFindings({ run, fixes, setFixes }: { run: Schemas["Run"]; fixes: Fixes; setFixes: (f: Fixes) => void }) {
  const rows = Object.entries(run.findings.rows) as [Schemas["BaseFinding"], number][];
  if (rows.length === 0) return null;
  const has = (...codes: string[]) => rows.some(([code]) => codes.includes(code));
  const box = (key: keyof Fixes, label: string) => (
    <FormControlLabel
      control={<Checkbox checked={fixes[key]} onChange={(e) => setFixes({ ...fixes, [key]: e.target.checked })} />}
      label={label}
    />
  );
  const domains = Object.entries(run.findings.domains);
  return (
    <>
      <h2>The base check of this file</h2>
      <ul data-testid="file-findings">
        {rows.map(([code, n]) => (
          <li key={code}>
            {FINDINGS[code].title}: {plural(n, "row")}. <span className="soft">{FINDINGS[code].about}</span>
            {code === "near_miss" && domains.length > 0 && (
              <span className="soft"> {domains.map(([wrong, right]) => `${wrong} for ${right}`).join(", ")}.</span>
            )}
          </li>
        ))}
      </ul>
      <div>
        {has("near_miss") && box("domains", "Correct mistyped domains; these people land without consent")}
        {has("duplicate") && box("duplicates", "Leave out rows with somebody else's mailbox")}
        {has("role", "disposable", "no_mail_host") && box("tags", "Put the others in the tag of their finding")}
      </div>
      <p>
        <a href={`/api/imports/${run.id}/findings.csv`}>These rows as CSV</a>
      </p>
    </>
  );
}
