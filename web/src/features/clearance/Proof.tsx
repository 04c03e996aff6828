import { Button, Table, TableBody, TableCell, TableHead, TableRow, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { bare, count, date, instant, percent, plural, words } from "../../shared/format";
import { Failure } from "../../shared/states";

function Cells({ rate, digits = 1 }: { rate: Schemas["Rate"]; digits?: number }) {
  return (
    <TableCell className="num">
      {percent(rate.rate, digits)}{" "}
      <span className="soft small">
        {bare(rate.lower, digits)} to {bare(rate.upper, digits)}
        {rate.thin ? ", thin" : ""}
      </span>
    </TableCell>
  );
}

function Rows({ title, rows }: { title: string; rows: Schemas["Faring"][] }) {
  return (
    <Table>
      <TableHead>
        <TableRow>
          <TableCell>{title}</TableCell>
          <TableCell className="num">Handed over</TableCell>
          <TableCell className="num">Delivered</TableCell>
          <TableCell className="num">Answered</TableCell>
          <TableCell className="num">Complained</TableCell>
        </TableRow>
      </TableHead>
      <TableBody>
        {rows.map((r) => (
          <TableRow key={r.words}>
            <TableCell>{words(r.words)}</TableCell>
            <TableCell className="num">{count(r.delivered.of)}</TableCell>
            <Cells rate={r.delivered} />
            <Cells rate={r.answered} />
            <Cells rate={r.complained} digits={3} />
          </TableRow>
        ))}
      </TableBody>
    </Table>
  );
}

/** How mail fares by the consent it rests on. */
export function Faring() {
  const faring = useQuery(queries.faring);
  if (!faring.data) return null;
  return (
    <>
      <h2>How mail fares by consent</h2>
      <p className="soft" style={{ marginTop: 0 }}>
        Marketing since {date(faring.data.since)}, by the consent at its handover; answered: a human click or a reply.
      </p>
      <Rows title="Consent" rows={faring.data.by_state} />
      <Rows title="Came by" rows={faring.data.by_source} />
    </>
  );
}

/** Holds every entry of the ledger against its seal. */
export function Seals() {
  const [noted, setNoted] = useState("");
  const check = useMutation({
    mutationFn: () => ok(api.GET("/api/consent/seals", { params: { query: { link: noted.trim() || null } } })),
  });
  const s = check.data;
  return (
    <>
      <h2>Is the ledger as it was written?</h2>
      <p className="soft" style={{ marginTop: 0, maxWidth: "56em" }}>
        Every entry carries a seal over what it says and over the entry before it: a changed, removed or added one
        shows. The newest seal, noted elsewhere, can be looked for later.
      </p>
      <div style={{ display: "flex", gap: 12, maxWidth: 640, margin: "10px 0" }}>
        <TextField label="A seal noted earlier (optional)" value={noted} onChange={(e) => setNoted(e.target.value)} />
        <Button variant="outlined" style={{ flex: "none" }} disabled={check.isPending} onClick={() => check.mutate()}>
          Check the seals
        </Button>
      </div>
      <Failure error={check.error} />
      {s && (
        <div role="status">
          <p className={s.broken.length ? "note bad" : "note good"}>
            {s.broken.length
              ? `Broken at ${plural(s.broken.length, "entry", "entries")} or more of ${count(s.entries)}.`
              : `All ${count(s.entries)} entries are as they were written${s.erased ? `; what ${count(s.erased)} of deleted people said is erased, their seals hold` : ""}.`}
            {noted.trim() &&
              (s.found
                ? ` The noted seal is that of entry ${count(s.found)}.`
                : " The noted seal is not in the ledger: entries were taken off its end.")}
          </p>
          {s.broken.map((b) => (
            <p key={b.entry}>
              Entry {count(b.entry)}, {instant(b.at)}, of{" "}
              <Link to={`/contacts/${b.contact_id}`}>person {b.contact_id}</Link>: {b.words}.
            </p>
          ))}
          <p className="small soft" style={{ overflowWrap: "anywhere" }}>
            Newest seal: {s.link}
          </p>
        </div>
      )}
    </>
  );
}
