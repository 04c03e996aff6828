import { Button, Checkbox, FormControlLabel, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { everything } from "../../api/cache";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, plural } from "../../shared/format";
import { EntityPick } from "../../shared/EntityPick";
import { Failure, Loaded } from "../../shared/states";
import { useProgress } from "../../shared/useProgress";
import { useContactSlips } from "./useContactSlips";
import { TakeBack } from "./Changes";
import { ColumnsTable } from "./ColumnsTable";
import { Shape } from "./Shape";
import { FileFindings } from "./FileFindings";
import { SCORE, keyOf } from "./columnField";

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

function Run({ preview }: { preview: Schemas["Preview"] }) {
  const { run, rows, change } = preview;
  const path = { id: run.id };
  const [mapping, setMapping] = useState(run.mapping);
  const [header, setHeader] = useState(run.header);
  const [list, setList] = useState(run.list ?? "");
  const [tag, setTag] = useState(run.tag ?? "");
  const [consent, setConsent] = useState(run.consent);
  const [texts, setTexts] = useState(run.texts);
  const [evidence, setEvidence] = useState(run.evidence);
  const [entity, setEntity] = useState(run.entity);
  const [fixes, setFixes] = useState(run.fixes);
  const numbers = mapping.some((m) => m === "phone");
  const scores = mapping.some((m) => keyOf(m).startsWith(SCORE));
  const progress = useProgress(`import-${run.id}`, everything, run.state === "applying");
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
  });
  const apply = useMutation({
    mutationFn: () => ok(api.POST("/api/imports/{id}/apply", { params: { path } })),
  });
  const shape = useMutation({
    mutationFn: (body: Schemas["FileShape"]) => ok(api.POST("/api/imports/{id}/shape", { params: { path }, body })),
  });
  const cancel = useMutation({
    mutationFn: () => ok(api.POST("/api/imports/{id}/cancel", { params: { path } })),
  });
  const open = run.state === "staged" || run.state === "checked";
  // A checked run whose fixes were changed has to be checked again before it is applied.
  const stale = JSON.stringify(fixes) !== JSON.stringify(run.fixes);
  return (
    <>
      <div className="crumb">
        <span>Import, {open ? (run.state === "staged" ? "step 2 of 3" : "step 3 of 3") : run.state}</span>
        <span>{run.file_name}</span>
        <span>
          <Shape run={run} header={header} change={open ? shape.mutate : null} />
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
      <ColumnsTable preview={preview} mapping={mapping} setMapping={setMapping} open={open} />
    </>
  );
}
