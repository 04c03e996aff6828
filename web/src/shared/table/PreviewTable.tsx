import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import type { ReactNode } from "react";

type Props = {
  columns: string[];
  rows: string[][];
  /** Per row: why it would be refused. */
  refusals: (string | null | undefined)[];
  taken: (column: number) => boolean;
  open: boolean;
  value: (column: number) => string;
  choose: (column: number, to: string) => void;
  /** What a column can be, beside left out. */
  options: (column: number, name: string) => ReactNode;
};

/** The first rows of a file as they would land, under what each column is. */
export function PreviewTable({ columns, rows, refusals, taken, open, value, choose, options }: Props) {
  return (
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
                  value={value(i)}
                  onChange={(e) => choose(i, e.target.value)}
                >
                  <option value="">left out</option>
                  {options(i, c)}
                </select>
              </TableCell>
            ))}
            <TableCell>Refused because</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {rows.map((r, i) => (
            <TableRow key={i}>
              {columns.map((_, j) => (
                <TableCell key={j} className={taken(j) ? "" : "soft"}>
                  {r[j]}
                </TableCell>
              ))}
              <TableCell className="bad">{refusals[i]}</TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </div>
  );
}
