import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { Link } from "react-router";
import { Frame } from "../../app/Frame";
import { ByLabel, useByLabel } from "../../shared/ByLabel";
import { date, plural } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { standing, useTrialSlips } from "./useTrialSlips";

export function TrialsHome() {
  const { slips, trials } = useTrialSlips();
  const { label, labels, carries } = useByLabel();
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
                <Table>
                  <TableHead>
                    <TableRow>
                      <TableCell>Mailing</TableCell>
                      <TableCell>Question</TableCell>
                      <TableCell>Sealed</TableCell>
                      <TableCell>Verdict</TableCell>
                    </TableRow>
                  </TableHead>
                  <TableBody>
                    {all.map((t) => (
                      <TableRow key={t.id}>
                        <TableCell>
                          <Link to={`/trials/${t.id}`}>{t.mailing}</Link>
                        </TableCell>
                        <TableCell>{t.plan.question}</TableCell>
                        <TableCell style={{ whiteSpace: "nowrap" }}>{date(t.sealed_at)}</TableCell>
                        <TableCell style={{ whiteSpace: "nowrap" }}>{standing(t)}</TableCell>
                      </TableRow>
                    ))}
                  </TableBody>
                </Table>
              )}
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
