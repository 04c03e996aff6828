import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { words } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";

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

const KEYS: Record<string, Sort> = { address: "address", name: "family_name", added: "added_at" };

/** People as rows; every one opens. */
export function PeopleTable({ rows, sort, descending, onSort, onWhy }: Props) {
  const by = Object.keys(KEYS).find((k) => KEYS[k] === sort) ?? "";
  return (
    <DataTable
      name="People"
      plain={!onSort}
      ordered={
        onSort && { by, descending: descending ?? false, keys: Object.keys(KEYS), on: (key) => onSort(KEYS[key]!) }
      }
      rows={rows}
      id={(r) => r.id}
      columns={(col) => [
        col.shown(
          "Address",
          (r) => r.address,
          (r) => <Link to={`/contacts/${r.id}`}>{r.address}</Link>,
        ),
        col.text("Name", (r) => [r.given_name, r.family_name].filter(Boolean).join(" ")),
        col.text("Country", (r) => r.country),
        col.text("Consent", (r) => words(r.consent), { tone: (r) => consentTone(r.consent) }),
        col.text("Mail status", (r) => words(r.status), { tone: (r) => statusTone(r.status) }),
        col.day("Added", (r) => r.added_at),
        onWhy != null &&
          col.acts(
            (r) => (
              <button className="plain" onClick={() => onWhy(r)}>
                Why<span className="away"> is {r.address} in it</span>
              </button>
            ),
            { num: true },
          ),
      ]}
    />
  );
}
