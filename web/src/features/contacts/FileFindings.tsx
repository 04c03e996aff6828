import { Checkbox, FormControlLabel } from "@mui/material";
import { type Schemas } from "../../api/client";
import { plural } from "../../shared/format";
import { FINDINGS } from "./findings";

type Fixes = Schemas["Fixes"];

/** What the base check says of the file, with the fixes to land it with. */
export function FileFindings({
  run,
  fixes,
  setFixes,
}: {
  run: Schemas["Run"];
  fixes: Fixes;
  setFixes: (f: Fixes) => void;
}) {
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
