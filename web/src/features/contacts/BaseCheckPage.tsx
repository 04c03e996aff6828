import { Button, Table, TableBody, TableCell, TableHead, TableRow, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { count, plural, words } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Failure, Loaded } from "../../shared/states";
import { useWorking } from "../../shared/working";
import { Changes } from "./Changes";
import { FINDINGS } from "./findings";
import { useContactSlips } from "./useContactSlips";
import { AsOf } from "../../shared/AsOf";

type Finding = Schemas["BaseFinding"];
type Found = Schemas["BaseFound"];
type Row = Schemas["BaseRow"];

/** The base check on demand: what deserves a look, row by row, each with its fix. */
export function BaseCheckPage() {
  const slips = useContactSlips();
  const [params, setParams] = useSearchParams();
  const open = params.get("finding") as Finding | null;
  const check = useQuery(queries.baseCheck);
  const changes = useQuery(queries.changes);
  return (
    <Frame slips={slips}>
      <Loaded query={check}>
        {(c) => {
          const found = c.found.filter((f) => f.people > 0);
          const total = found.reduce((n, f) => n + f.people, 0);
          return (
            <>
              <div className="crumb">
                <span>Contacts</span>
              </div>
              <h1>Base check</h1>
              <AsOf of="/api/base-check" />
              <p className="finding">
                {total === 0 ? (
                  <>Nothing in {plural(c.people, "address", "addresses")} needs a look.</>
                ) : (
                  <>
                    <em>{plural(total, "finding")}</em> in {plural(c.people, "address", "addresses")}. Nothing is
                    changed before you say so.
                  </>
                )}
              </p>
              <Table>
                <TableHead>
                  <TableRow>
                    <TableCell>Finding</TableCell>
                    <TableCell className="num">People</TableCell>
                    <TableCell>The fix</TableCell>
                    <TableCell />
                  </TableRow>
                </TableHead>
                <TableBody>
                  {c.found.map((f) => (
                    <Line
                      key={f.finding}
                      f={f}
                      dns={c.dns}
                      open={open === f.finding}
                      toggle={() => setParams(open === f.finding ? {} : { finding: f.finding }, { replace: true })}
                    />
                  ))}
                </TableBody>
              </Table>
              {open && <Rows key={open} finding={open} />}
              {open === "disposable" && <Disposable names={c.disposable} />}
              <h2>What was changed in one go</h2>
              <Loaded query={changes}>{(runs) => <Changes runs={runs} />}</Loaded>
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}

function Line({ f, dns, open, toggle }: { f: Found; dns: boolean; open: boolean; toggle: () => void }) {
  const back = useMutation({
    mutationFn: () => ok(api.POST("/api/base-check/aside", { body: { finding: f.finding, text: null } })),
  });
  const w = FINDINGS[f.finding];
  return (
    <TableRow>
      <TableCell>
        {w.title}
        {(f.people > 0 || open) && (
          <span className="soft small" style={{ display: "block" }}>
            {w.about}
            {f.finding === "no_mail_host" && !dns && " No DNS can be asked here, so only hosts' answers count."}
          </span>
        )}
      </TableCell>
      <TableCell className="num">{count(f.people)}</TableCell>
      <TableCell className="soft">{f.people > 0 ? w.fix : ""}</TableCell>
      <TableCell className="num" style={{ whiteSpace: "nowrap" }}>
        {(f.people > 0 || f.finding === "disposable") && (
          <button className="plain" aria-expanded={open} onClick={toggle}>
            {open ? "Close" : "See them"}
            <span className="away"> {w.title}</span>
          </button>
        )}
        {f.set_aside > 0 && (
          <>
            <br />
            <button className="plain small" onClick={() => back.mutate()}>
              Bring back {count(f.set_aside)} put aside
            </button>
          </>
        )}
        <Failure error={back.error} />
      </TableCell>
    </TableRow>
  );
}

/** The people with a finding, and what its fix would do to each. */
function Rows({ finding }: { finding: Finding }) {
  const { show } = useWorking();
  const rows = useQuery({
    queryKey: ["base-check", finding],
    queryFn: () => ok(api.GET("/api/base-check/{finding}", { params: { path: { finding } } })),
  });
  const onSuccess = () => {
    show(null);
  };
  const fix = useMutation({
    mutationFn: (only: number[] | null) => ok(api.POST("/api/base-check/fix", { body: { finding, only } })),
    onSuccess,
  });
  const aside = useMutation({
    mutationFn: (text: string) => ok(api.POST("/api/base-check/aside", { body: { finding, text } })),
    onSuccess,
  });
  const w = FINDINGS[finding];
  const changes = finding === "near_miss" || finding === "duplicate";
  return (
    <Loaded query={rows}>
      {({ people, rows }) => {
        const ask = (only: Row[] | null) => {
          const these = only ?? rows;
          const some = only === null && people > rows.length;
          const losing = these.filter((r) => mailable(r.consent) && !mailable(r.after)).length;
          const merged = these.filter((r) => r.merges_into != null).length;
          show({
            title: w.ask(only === null ? people : these.length),
            body: (
              <>
                {changes && !some && (
                  <p>
                    {merged > 0 && `${plural(merged, "person is", "people are")} merged into somebody who is here. `}
                    {these.length - merged > 0 &&
                      `${plural(these.length - merged, "address is", "addresses are")} corrected. `}
                    {losing > 0
                      ? `${plural(losing, "person", "people")} could be mailed before and not afterwards: nobody agreed for the corrected address, and of two people the stricter consent holds.`
                      : "Nobody's consent gets stricter."}
                  </p>
                )}
                <p>It can be taken back for 30 days.</p>
                <Button variant="contained" onClick={() => fix.mutate(only ? only.map((r) => r.contact_id) : null)}>
                  {w.act}
                </Button>
              </>
            ),
          });
        };
        if (people === 0) return null;
        return (
          <>
            <h2>
              {w.title}: {plural(people, "person", "people")}
            </h2>
            <Failure error={fix.error ?? aside.error} />
            <div className="acts">
              <Button variant="outlined" disabled={fix.isPending} onClick={() => ask(null)}>
                {fix.isPending ? "Fixing …" : w.all}
              </Button>
              <a href={`/api/base-check/${finding}/people.csv`}>All of them as CSV</a>
              {people > rows.length && <span className="soft small">the first {count(rows.length)} are shown</span>}
            </div>
            <DataTable
              name="Findings"
              plain
              rows={rows}
              id={(r) => r.contact_id}
              columns={(col) => [
                col.shown(
                  "Address",
                  (r) => r.address,
                  (r) => <Link to={`/contacts/${r.contact_id}`}>{r.address}</Link>,
                ),
                col.text("Why", (r) => r.why),
                col.shown(
                  "Becomes",
                  (r) => r.becomes,
                  (r) => (
                    <>
                      {r.becomes}
                      {r.merges_into != null && (
                        <span className="soft small">
                          {" "}
                          merged with <Link to={`/contacts/${r.merges_into}`}>them</Link>
                        </span>
                      )}
                    </>
                  ),
                ),
                col.text(
                  "Consent",
                  (r) => (r.after === r.consent ? words(r.after) : `${words(r.consent)} → ${words(r.after)}`),
                  { tone: (r) => (mailable(r.consent) && !mailable(r.after) ? "bad" : "") },
                ),
                col.acts(
                  (r) => (
                    <>
                      <button className="plain" onClick={() => ask([r])}>
                        Fix<span className="away"> {r.address}</span>
                      </button>{" "}
                      <button className="plain" title={r.aside} onClick={() => aside.mutate(r.aside)}>
                        It is right<span className="away">: {r.aside}</span>
                      </button>
                    </>
                  ),
                  { num: true, whole: true },
                ),
              ]}
            />
          </>
        );
      }}
    </Loaded>
  );
}

const mailable = (consent: string) => consent === "consented" || consent === "confirmed";

/** The list of disposable domains, one a line. */
function Disposable({ names }: { names: string[] }) {
  const [text, setText] = useState(names.join("\n"));
  const save = useMutation({
    mutationFn: () => ok(api.PUT("/api/base-check/disposable", { body: text.split("\n") })),
  });
  return (
    <div className="fields" style={{ marginTop: 18 }}>
      <TextField
        label="Disposable domains"
        helperText="One a line."
        multiline
        minRows={3}
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      <Failure error={save.error} />
      <div className="acts">
        <Button variant="outlined" disabled={save.isPending || text === names.join("\n")} onClick={() => save.mutate()}>
          Save the list
        </Button>
      </div>
    </div>
  );
}
