import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { count, plural } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";

type Part = Schemas["Memory"]["kept"][number];

const WHAT: Record<Part["what"], string> = {
  columns: "Everybody with their latest messages: clearances and forecasts decide on them",
  orders: "Everybody in the orders of the contact list",
};

const megabytes = (bytes: number) => `${bytes < 1e7 ? (bytes / 1e6).toFixed(1) : count(Math.round(bytes / 1e6))} MB`;

/** How much memory Rinse holds, and what it keeps there. */
export function Memory() {
  const memory = useQuery(queries.memory);
  return (
    <section aria-labelledby="memory">
      <h2 id="memory">Memory</h2>
      <Loaded query={memory}>
        {({ budget, private: own, kept, let_go }) => (
          <>
            <p>
              {own
                ? `Rinse holds ${megabytes(own)} of the ${megabytes(budget)}`
                : `Rinse may hold the ${megabytes(budget)}`}{" "}
              that <code>--memory</code> allows.{" "}
              {kept.length === 0
                ? "Nothing is kept between questions just now."
                : "What is asked of everybody again and again is kept there:"}{" "}
              {let_go > 0 && `${plural(let_go, "time")} since the start something had to be let go.`}
            </p>
            {kept.length > 0 && (
              <DataTable<Part>
                name="Kept in memory"
                rows={kept}
                id={(p) => p.what}
                columns={(col) => [
                  col.text("What", (p) => WHAT[p.what]),
                  col.shown(
                    "Memory",
                    (p) => p.bytes,
                    (p) => megabytes(p.bytes),
                    { num: true },
                  ),
                  col.number("Seconds unused", (p) => p.unused_for),
                ]}
              />
            )}
            <p className="soft small">
              When more is held than may be, what has been unused for longest goes first; after ten minutes unused it
              goes anyway. The next question then reads the data file again.
            </p>
          </>
        )}
      </Loaded>
    </section>
  );
}
