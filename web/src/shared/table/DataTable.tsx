import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import {
  createSortedRowModel,
  rowSortingFeature,
  tableFeatures,
  useTable,
  type ColumnDef,
} from "@tanstack/react-table";
import { type KeyboardEvent, useState } from "react";
import { useSearchParams } from "react-router";
import { count } from "../format";
import { type Column, type Columns, columnsOf, compare, csv, nextOrder, readOrder } from "./columns";

const features = tableFeatures({ rowSortingFeature, sortedRowModel: createSortedRowModel() });

/** Rows that the server orders and writes as CSV, since it holds more of them than stand here. */
type Ordered = { by: string; descending: boolean; keys: readonly string[]; on: (key: string) => void };

type Props<R> = {
  /** What the rows are, in the plural: names the table and its CSV. */
  name: string;
  columns: (col: Columns<R>) => (Column<R> | false)[];
  rows: R[];
  id: (row: R, at: number) => string | number;
  /** The order's name in the address, where a page has a second table. */
  param?: string;
  ordered?: Ordered;
  /** So many of them stand here until a reader asks for all. */
  first?: number;
  /** How many there are in all, where only some of them stand here. */
  of?: number;
  /** Neither ordered nor saved: a few rows whose order says something. */
  plain?: boolean;
  dense?: boolean;
};

/** Up and down go to the same control of the row above or below. */
function upAndDown(e: KeyboardEvent<HTMLElement>) {
  if (e.key !== "ArrowDown" && e.key !== "ArrowUp") return;
  const from = e.target as HTMLElement;
  const row = from.closest("tr");
  if (!row || !from.matches("a, button")) return;
  const at = [...row.querySelectorAll<HTMLElement>("a, button")].indexOf(from);
  const next = e.key === "ArrowDown" ? row.nextElementSibling : row.previousElementSibling;
  const to = next?.querySelectorAll<HTMLElement>("a, button")[at];
  if (!to) return;
  e.preventDefault();
  to.focus();
}

function save(name: string, text: string) {
  const url = URL.createObjectURL(new Blob([text], { type: "text/csv;charset=utf-8" }));
  const a = document.createElement("a");
  a.href = url;
  a.download = `${name.replaceAll(/\W+/g, "-").toLowerCase()}.csv`;
  a.click();
  URL.revokeObjectURL(url);
}

/** Rows under heads that order them; the order stands in the address, so that it is there again after a reload. */
export function DataTable<R extends object>(p: Props<R>) {
  const { name, rows, id, param = "by", ordered, of = rows.length, first = Infinity, plain, dense } = p;
  const [all, setAll] = useState(false);
  const columns = p.columns(columnsOf<R>()).filter((c) => c !== false);
  const [params, setParams] = useSearchParams();
  const by = params.get(param);
  const order = ordered ? { key: ordered.by, descending: ordered.descending } : readOrder(by);
  const defs = columns.map((c): ColumnDef<typeof features, R> => ({
    id: c.key,
    accessorFn: (r) => c.value(r) ?? undefined,
    header: c.head,
    sortFn: (a, b) => compare(a.getValue(c.key), b.getValue(c.key)),
    sortUndefined: "last",
  }));
  const known = order && columns.some((c) => c.key === order.key && !c.act) ? order : null;
  const table = useTable({
    features,
    columns: defs,
    data: rows,
    getRowId: (r, i) => String(id(r, i)),
    manualSorting: ordered !== undefined,
    state: { sorting: known ? [{ id: known.key, desc: known.descending }] : [] },
  });
  const sorted = table.getRowModel().rows;
  const shown = sorted.slice(0, all ? sorted.length : first);
  const press = (c: Column<R>) => {
    if (ordered) return ordered.on(c.key);
    const next = nextOrder(by, c);
    setParams(
      (was) => {
        const now = new URLSearchParams(was);
        if (next) now.set(param, next);
        else now.delete(param);
        return now;
      },
      { replace: true },
    );
  };
  const kinds = (c: Column<R>) => [c.num && "num", c.whole && "whole"].filter(Boolean).join(" ");
  return (
    <>
      <Table size={dense ? "small" : "medium"} aria-label={name} onKeyDown={upAndDown}>
        <TableHead>
          <TableRow>
            {columns.map((c) => {
              const now = known?.key === c.key ? known : null;
              const can = !plain && !c.act && rows.length > 1 && (ordered?.keys.includes(c.key) ?? true);
              return (
                <TableCell
                  key={c.key}
                  className={kinds(c)}
                  aria-sort={now ? (now.descending ? "descending" : "ascending") : undefined}
                >
                  {can ? (
                    <button className="sorts" onClick={() => press(c)}>
                      {c.head}
                      <span aria-hidden>{now ? (now.descending ? " ↓" : " ↑") : ""}</span>
                    </button>
                  ) : (
                    c.head
                  )}
                </TableCell>
              );
            })}
          </TableRow>
        </TableHead>
        <TableBody>
          {shown.map(({ id: key, original: r }) => (
            <TableRow key={key}>
              {columns.map((c) => (
                <TableCell key={c.key} className={[kinds(c), c.tone?.(r)].filter(Boolean).join(" ")}>
                  {c.cell ? c.cell(r) : c.value(r)}
                </TableCell>
              ))}
            </TableRow>
          ))}
        </TableBody>
      </Table>
      {rows.length > 0 && ((!plain && !ordered) || of > shown.length) && (
        <div className="under">
          {of > shown.length && (
            <span>
              {count(shown.length)} of {count(of)} shown
            </span>
          )}
          {sorted.length > shown.length && (
            <button className="plain" onClick={() => setAll(true)}>
              Show all {count(sorted.length)}
            </button>
          )}
          {!plain && !ordered && (
            <button
              className="plain"
              onClick={() =>
                save(
                  name,
                  csv(
                    columns,
                    sorted.map((r) => r.original),
                  ),
                )
              }
            >
              As CSV<span className="away">: {name}</span>
            </button>
          )}
        </div>
      )}
    </>
  );
}
