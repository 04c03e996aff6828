import type { Schemas } from "../../api/client";
import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { Arm } from "../../shared/Arm";
import { count, percent } from "../../shared/format";

type Reading = Schemas["Reading"];

/** What the comparisons are added up from, where the arms' shares changed on the way. */
export function Stretches({ r }: { r: Reading }) {
  if (r.stretches.length < 2) return null;
  return (
    <>
      <h2>Stretch by stretch</h2>
      <Table size="small" sx={{ maxWidth: 860 }}>
        <TableHead>
          <TableRow>
            <TableCell>Stretch</TableCell>
            {r.arms.map((a, i) => (
              <TableCell key={a.letter} className="num">
                <Arm index={i} />
              </TableCell>
            ))}
          </TableRow>
        </TableHead>
        <TableBody>
          {r.stretches.map((s, n) => (
            <TableRow key={n}>
              <TableCell>{n + 1}</TableCell>
              {s.rates.map((x, i) => (
                <TableCell key={i} className="num">
                  {s.parts[i] === 0 ? (
                    <span className="soft">closed</span>
                  ) : (
                    <>
                      {count(x.count)} of {count(x.of)}{" "}
                      <span className="soft small">{x.rate == null ? "" : percent(x.rate)}</span>
                    </>
                  )}
                </TableCell>
              ))}
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </>
  );
}
