import { type Schemas } from "../../api/client";
import { count, percent } from "../../shared/format";
import { IntervalPlot } from "../../shared/Interval";
import { betterOf, hourOf } from "./hours";

/** What the best hour gains over the usual one, with the gain that was wanted as a band. */
export function HourGainView({ g, effect }: { g: Schemas["HourGain"]; effect: number }) {
  const better = betterOf(g);
  return (
    <>
      <IntervalPlot
        rows={[
          {
            label: `${better} less ${hourOf(g.usual)}`,
            estimate: g.difference,
            lower: g.lower,
            upper: g.upper,
            note: "",
            tone: "deep",
          },
        ]}
        band={effect}
        caption="points, a mean a person; shaded: less than was wanted"
      />
      <dl className="facts">
        <dt>At {better}</dt>
        <dd>
          {percent(g.best_rate)} of {count(g.best_people)} people, each counted once
        </dd>
        <dt>At {hourOf(g.usual)}</dt>
        <dd>
          {percent(g.usual_rate)} of {count(g.usual_people)} people
        </dd>
      </dl>
    </>
  );
}
