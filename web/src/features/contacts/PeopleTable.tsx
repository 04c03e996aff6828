import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { date, words } from "../../shared/format";

type Sort = Schemas["Sort"];
type Props = {
  rows: Schemas["ContactRow"][];
  sort?: Sort;
  descending?: boolean;
  onSort?: (s: Sort) => void;
  onWhy?: (r: Schemas["ContactRow"]) => void;
};

export function statusTone(status: string): string {
  return status === "retired" ? "bad" : status === "active" ? "" : "wait";
}

function consentTone(consent: string): string {
  return consent === "withdrawn" || consent === "complained" ? "bad" : consent === "paused" ? "wait" : "";
}

/** People as rows; every one opens. */
export function PeopleTable({ rows, sort, descending, onSort, onWhy }: Props) {
  const head = (key: Sort, label: string) => (
    <TableCell aria-sort={sort === key ? (descending ? "descending" : "ascending") : undefined}>
      {onSort ? (
        <button className="plain" onClick={() => onSort(key)}>
          {label}
          {sort === key ? (descending ? " ↓" : " ↑") : ""}
        </button>
      ) : (
        label
      )}
    </TableCell>
  );
  return (
    <Table>
      <TableHead>
        <TableRow>
          {head("address", "Address")}
          {head("family_name", "Name")}
          <TableCell>Country</TableCell>
          <TableCell>Consent</TableCell>
          <TableCell>Mail status</TableCell>
          {head("added_at", "Added")}
          {onWhy && <TableCell />}
        </TableRow>
      </TableHead>
      <TableBody>
        {rows.map((r) => (
          <TableRow key={r.id}>
            <TableCell>
              <Link to={`/contacts/${r.id}`}>{r.address}</Link>
            </TableCell>
            <TableCell>{[r.given_name, r.family_name].filter(Boolean).join(" ")}</TableCell>
            <TableCell>{r.country}</TableCell>
            <TableCell className={consentTone(r.consent)}>{words(r.consent)}</TableCell>
            <TableCell className={statusTone(r.status)}>{words(r.status)}</TableCell>
            <TableCell className="num">{date(r.added_at)}</TableCell>
            {onWhy && (
              <TableCell className="num">
                <button className="plain" onClick={() => onWhy(r)}>
                  Why<span className="away"> is {r.address} in it</span>
                </button>
              </TableCell>
            )}
          </TableRow>
        ))}
      </TableBody>
    </Table>
  );
}
