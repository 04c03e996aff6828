import { Table, TableBody, TableCell, TableRow } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok, type Schemas } from "../../api/client";
import { count } from "../../shared/format";
import { type Tree, type Vocabulary } from "./leaf";

/** Parts that add up: every value of a field, and those who lack one. */
export function Split({ tree, fields, people }: { tree: Tree; fields: Vocabulary["fields"]; people: number }) {
  const [by, setBy] = useState("");
  const field = (/^\d+$/.test(by) ? { own: Number(by) } : by) as Schemas["Field"];
  const split = useQuery({
    queryKey: ["split", tree, by],
    queryFn: () => ok(api.POST("/api/segments/split", { body: { tree, field } })),
    enabled: by !== "",
  });
  const parts = split.data ?? [];
  const shown = parts.slice(0, 12);
  const rest = parts.slice(12).reduce((n, p) => n + p.people, 0);
  return (
    <>
      <h2>
        <label>
          Split by{" "}
          <select className="bare" value={by} onChange={(e) => setBy(e.target.value)}>
            <option value="">nothing</option>
            {(["country", "region", "time_zone", "source", "position"] as const).map((f) => (
              <option key={f} value={f}>
                {f === "position" ? "home place known" : f.replace("_", " ")}
              </option>
            ))}
            {fields.map((f) => (
              <option key={f.id} value={f.id}>
                {f.name}
              </option>
            ))}
          </select>
        </label>
      </h2>
      {by !== "" && split.data && (
        <Table sx={{ maxWidth: 560 }}>
          <TableBody>
            {[...shown, ...(rest ? [{ value: `${count(parts.length - 12)} more values`, people: rest }] : [])].map(
              (p) => (
                <TableRow key={p.value ?? ""}>
                  <TableCell className={p.value == null ? "soft" : ""}>{p.value ?? "missing"}</TableCell>
                  <TableCell className="num">{count(p.people)}</TableCell>
                  <TableCell sx={{ width: 240 }}>
                    <svg width="220" height="10" aria-hidden="true">
                      <rect width={(220 * p.people) / Math.max(1, people)} height="10" fill="var(--deep)" />
                    </svg>
                  </TableCell>
                </TableRow>
              ),
            )}
            <TableRow>
              <TableCell>Together</TableCell>
              <TableCell className="num">{count(parts.reduce((n, p) => n + p.people, 0))}</TableCell>
              <TableCell />
            </TableRow>
          </TableBody>
        </Table>
      )}
    </>
  );
}
