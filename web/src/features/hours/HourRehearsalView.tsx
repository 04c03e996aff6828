import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { type Schemas } from "../../api/client";
import { bare, count, percent } from "../../shared/format";
import { type HourPlan } from "./hours";

/** Three worlds: how often the hour would be said to matter in each. */
export function HourRehearsalView({ r, plan }: { r: Schemas["HourRehearsal"]; plan: HourPlan }) {
  const worlds = plan.confirms
    ? ([
        [plan.confirms.own ? "Own hours gain nothing" : "Neither hour is better", r.none, false],
        [`${plan.confirms.own ? "Own hours gain" : "The best hour gains"} ${bare(plan.effect)} points`, r.wanted, true],
      ] as const)
    : ([
        ["No hour is better", r.none, false],
        [`One hour is ${bare(plan.effect)} points better than another`, r.wanted, true],
        [`A wave over the day, ${bare(plan.effect)} points high`, r.wave, true],
      ] as const);
  return (
    <section aria-label="Rehearsal">
      <Table size="small">
        <TableHead>
          <TableRow>
            <TableCell>If</TableCell>
            <TableCell className="num">Runs</TableCell>
            <TableCell className="num">Said to matter</TableCell>
            <TableCell className="num">Best hour among those named</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {worlds.map(([words, w, some]) => (
            <TableRow key={words}>
              <TableCell>{words}</TableCell>
              <TableCell className="num">{count(w.runs)}</TableCell>
              <TableCell className="num">{percent(w.matters / w.runs, 0)}</TableCell>
              <TableCell className="num">
                {some && w.matters > 0 ? percent(w.best_in_set / w.matters, 0) : "–"}
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      <p className="soft small">
        The same {count(r.people)} people in each round, who differ in how they answer; each run is decided by the
        reading that is sealed.
      </p>
    </section>
  );
}
