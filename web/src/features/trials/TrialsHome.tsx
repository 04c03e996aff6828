import { Link } from "react-router";
import { Frame } from "../../app/Frame";
import { ByLabel, useByLabel, useByOwnLabel } from "../../shared/ByLabel";
import { plural } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Loaded } from "../../shared/states";
import { HourTrials } from "../hours/HourTrials";
import { standing, useTrialSlips } from "./useTrialSlips";

export function TrialsHome() {
  const { slips, trials } = useTrialSlips();
  const { label, labels: ofMailings, carries } = useByLabel();
  const labels = [...new Set([...ofMailings, ...useByOwnLabel("hour_trial").labels])].sort();
  return (
    <Frame slips={slips}>
      <Loaded query={trials}>
        {(every) => {
          const all = every.filter((t) => carries(t.mailing_id));
          const running = all.filter((t) => t.state === "collecting").length;
          const toRead = all.filter((t) => t.state === "read").length;
          return (
            <>
              <div className="crumb">
                <span>Trials</span>
              </div>
              <h1>What was compared</h1>
              <p className="finding">
                {all.length === 0 ? (
                  "No trial yet."
                ) : (
                  <>
                    <em>{plural(all.length, "trial")}</em>: {running} collecting, {toRead} with a verdict to act on.
                  </>
                )}
              </p>
              {all.length === 0 && (
                <p className="soft">
                  A trial compares two subjects of a mailing on a part of its audience.{" "}
                  <Link to="/mailings/new">Write a mailing</Link> with two subjects, then plan its trial.
                </p>
              )}
              <ByLabel labels={labels} label={label} />
              {all.length > 0 && (
                <DataTable
                  name="Trials"
                  rows={all}
                  id={(t) => t.id}
                  columns={(col) => [
                    col.shown(
                      "Mailing",
                      (t) => t.mailing,
                      (t) => <Link to={`/trials/${t.id}`}>{t.mailing}</Link>,
                    ),
                    col.text("Question", (t) => t.plan.question),
                    col.day("Sealed", (t) => t.sealed_at),
                    col.text("Verdict", (t) => standing(t), { whole: true }),
                  ]}
                />
              )}
            </>
          );
        }}
      </Loaded>
      <HourTrials />
    </Frame>
  );
}
