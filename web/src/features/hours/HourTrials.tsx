import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { queries } from "../../api/queries";
import { useByOwnLabel } from "../../shared/ByLabel";
import { Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { hourStanding } from "./hours";

/** The hour trials, beneath those of variants. */
export function HourTrials() {
  const trials = useQuery(queries.hourTrials);
  const { labels, label, carries } = useByOwnLabel("hour_trial");
  const here = label === null || labels.includes(label);
  return (
    <>
      <h2>Hours</h2>
      <Loaded query={trials}>
        {(every) => {
          const all = every.filter((t) => carries(t.id));
          return every.length === 0 ? (
            <p className="soft">
              Does the hour matter here, and which? <Link to="/trials/hours/new">Plan an hour trial</Link> over two or
              more mailings to come.
            </p>
          ) : all.length === 0 ? (
            <p className="soft">{here ? "" : `No hour trial carries the label ${label}.`}</p>
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
          );
        }}
      </Loaded>
    </>
  );
}
