import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { type Schemas } from "../../api/client";
import { bare, count, date, percent } from "../../shared/format";

/** How a score would have ranked those who bought. */
export function TriedView({ tried: t }: { tried: Schemas["TriedScore"] }) {
  const most = Math.max(...t.fifths.map((f) => f.upper), 0.001);
  return (
    <div>
      <p className="finding" style={{ fontSize: 18 }}>
        {t.ranking ? (
          <>
            Of a buyer and somebody who didn’t buy, the buyer would have ranked higher in{" "}
            <em>{percent(t.ranking.share)}</em> of pairs ({bare(t.ranking.lower)} to {bare(t.ranking.upper)}; chance
            alone gives 50).
          </>
        ) : (
          "Nobody bought in the last 90 days, or everybody did: there is nothing to rank."
        )}
      </p>
      <p className="soft small" style={{ marginTop: 0 }}>
        {count(t.entries)} entries from {date(t.from)} to {date(t.cut)} made the score; bought is what was bought from
        then to {date(t.until)}. Ties count half; the interval is DeLong’s, 95%.
      </p>
      <Table size="small">
        <TableHead>
          <TableRow>
            <TableCell>By score</TableCell>
            <TableCell className="num">Score</TableCell>
            <TableCell className="num">People</TableCell>
            <TableCell className="num">Bought</TableCell>
            <TableCell className="num">Share, 95%</TableCell>
            <TableCell />
          </TableRow>
        </TableHead>
        <TableBody>
          {t.fifths.map((f, i) => (
            <TableRow key={i}>
              <TableCell>
                {i === 0 ? "highest" : i === t.fifths.length - 1 ? "lowest" : `${["", "2nd", "3rd", "4th"][i]}`}
              </TableCell>
              <TableCell className="num">
                {f.least === f.most ? f.least.toFixed(1) : `${f.least.toFixed(1)} to ${f.most.toFixed(1)}`}
              </TableCell>
              <TableCell className="num">{count(f.people)}</TableCell>
              <TableCell className="num">{count(f.buyers)}</TableCell>
              <TableCell className="num">
                {percent(f.buyers / f.people, 2)} ({bare(f.lower, 2)} to {bare(f.upper, 2)})
              </TableCell>
              <TableCell>
                <svg width="160" height="12" aria-hidden="true">
                  <line
                    x1={(150 * f.lower) / most}
                    x2={(150 * f.upper) / most}
                    y1={6}
                    y2={6}
                    stroke="var(--deep)"
                    strokeWidth={2}
                  />
                  <circle cx={(150 * f.buyers) / f.people / most} cy={6} r={4} fill="var(--deep)" />
                </svg>
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </div>
  );
}
