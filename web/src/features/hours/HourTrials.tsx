import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { queries } from "../../api/queries";
import { Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { hourStanding } from "./hours";

/** The hour trials, beneath those of variants. */
export function HourTrials() {
  const trials = useQuery(queries.hourTrials);
  return (
    <>
      <h2>Hours</h2>
      <Loaded query={trials}>
        {(all) =>
          all.length === 0 ? (
            <p className="soft">
              Does the hour matter here, and which? <Link to="/trials/hours/new">Plan an hour trial</Link> over two or
              more mailings to come.
            </p>
          ) : (
            <DataTable
              name="Hour trials"
              param="hours"
              rows={all}
              id={(t) => t.id}
              columns={(col) => [
                col.shown(
                  "Question",
                  (t) => t.question,
                  (t) => <Link to={`/trials/hours/${t.id}`}>{t.question || "An hour trial"}</Link>,
                ),
                col.day("Sealed", (t) => t.sealed_at),
                col.number("Rounds", (t) => t.rounds),
                col.text("Stands", hourStanding),
              ]}
            />
          )
        }
      </Loaded>
    </>
  );
}
