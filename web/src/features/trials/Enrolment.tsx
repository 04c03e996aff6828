import { Button, Table, TableBody, TableCell, TableHead, TableRow, TextField } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Arm } from "../../shared/Arm";
import { count, instant, letter } from "../../shared/format";
import { Pick } from "../../shared/Pick";
import { Failure } from "../../shared/states";

type View = Schemas["TrialView"];

const PARTS = [
  [0, "closed"] as const,
  ...Array.from({ length: 10 }, (_, i) => [i + 1, i === 0 ? "1 part" : `${i + 1} parts`] as const),
];

/** People a day: few of them with a decimal. */
export const aDay = (n: number) => (n < 10 ? n.toFixed(1) : count(Math.round(n)));

/** How people are enrolled as they come: stretch by stretch, with what can be changed on the way. */
export function EnrolmentView({ v }: { v: View }) {
  const { trial, subjects, enrolment: e } = v;
  const [changing, setChanging] = useState<"shares" | "end" | null>(null);
  if (!e) return null;
  const going = trial.state === "collecting" && trial.enrolled_at == null;
  return (
    <>
      <h2>Enrolled</h2>
      {going && (
        <p className="soft" style={{ margin: "0 0 6px" }}>
          Everybody who comes to the message in <Link to={`/series/${e.series}`}>{e.series_name}</Link> is given an arm
          until each open one has {count(trial.plan.per_arm ?? 0)}.{" "}
          {e.days != null
            ? `At ${aDay(e.a_day ?? 0)} people a day, as over the last 28 days, that takes ${count(Math.ceil(e.days))} more days.`
            : "Nobody came in the last 28 days: nothing says how long that takes."}
        </p>
      )}
      {trial.state === "collecting" && !e.in_place && (
        <p className="note bad">
          The series sends this message no more: nobody comes to it. End the enrolment, or put the message back.
        </p>
      )}
      <Table size="small" sx={{ maxWidth: 860 }}>
        <TableHead>
          <TableRow>
            <TableCell>Stretch</TableCell>
            {subjects.map((_, i) => (
              <TableCell key={i} className="num">
                <Arm index={i} />
              </TableCell>
            ))}
            <TableCell>Why</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {e.stretches.map((s, n) => (
            <TableRow key={s.began_at}>
              <TableCell>
                {n + 1}, from {instant(s.began_at)}
              </TableCell>
              {s.people.map((people, i) => (
                <TableCell key={i} className="num">
                  {s.parts[i] === 0 ? (
                    <span className="soft">closed</span>
                  ) : (
                    <>
                      {count(people)}{" "}
                      <span className="soft small">({s.parts[i] === 1 ? "1 part" : `${s.parts[i]} parts`})</span>
                    </>
                  )}
                </TableCell>
              ))}
              <TableCell className="soft">
                {s.why}
                {s.person ? `, ${s.person}` : ""}
              </TableCell>
            </TableRow>
          ))}
          {e.stretches.length > 1 && (
            <TableRow>
              <TableCell>in all</TableCell>
              {e.people.map((n, i) => (
                <TableCell key={i} className="num">
                  {count(n)}
                </TableCell>
              ))}
              <TableCell />
            </TableRow>
          )}
        </TableBody>
      </Table>
      {trial.enrolment_words && <p className="note">{trial.enrolment_words}</p>}
      {going && changing === null && (
        <div className="acts">
          <Button variant="outlined" onClick={() => setChanging("shares")}>
            Change the shares
          </Button>
          <Button variant="outlined" onClick={() => setChanging("end")}>
            End the enrolment
          </Button>
          <span className="soft small">
            Only those who come in the same stretch are compared; who comes again keeps their arm and counts once.
          </span>
        </div>
      )}
      {going && changing !== null && <Change v={v} what={changing} close={() => setChanging(null)} />}
    </>
  );
}

/** Another stretch, or the end of the enrolment: both with a reason, which stands on the verdict. */
function Change({ v, what, close }: { v: View; what: "shares" | "end"; close: () => void }) {
  const now = v.enrolment?.stretches.at(-1)?.parts ?? [];
  const [parts, setParts] = useState(now);
  const [why, setWhy] = useState("");
  const params = { path: { id: v.trial.id } };
  const save = useMutation({
    mutationFn: () =>
      what === "shares"
        ? ok(api.POST("/api/trials/{id}/stretches", { params, body: { parts, why } }))
        : ok(api.POST("/api/trials/{id}/enrolment/end", { params, body: { why } })),
    onSuccess: async () => {
      close();
    },
  });
  return (
    <section
      aria-label={what === "shares" ? "Other shares" : "End of the enrolment"}
      className="fields"
      style={{ marginTop: 14 }}
    >
      {what === "shares" ? (
        <p style={{ margin: 0 }}>
          Of those who come from now on{" "}
          {v.subjects.map((_, i) => (
            <span key={i}>
              {letter(i)} has{" "}
              <Pick
                label={`Parts of ${letter(i)}`}
                value={parts[i] ?? 0}
                options={PARTS}
                onChange={(n) => setParts(parts.map((p, j) => (j === i ? n : p)))}
              />
              {i < v.subjects.length - 1 ? ", " : "."}
            </span>
          ))}{" "}
          <span className="soft small">An arm that is closed can’t be called any more.</span>
        </p>
      ) : (
        <p style={{ margin: 0 }}>
          Nobody more is enrolled; everybody who comes gets {letter(v.trial.plan.on_no_call ?? 0)}. What was planned
          isn’t reached then, and the reading says so. With fewer than 30 people in an arm there is none: the trial is
          given up.
        </p>
      )}
      <TextField label="Why, in a sentence" value={why} onChange={(e) => setWhy(e.target.value)} />
      <Failure error={save.error} />
      <div className="acts">
        <Button variant="contained" disabled={save.isPending} onClick={() => save.mutate()}>
          {what === "shares" ? "Begin the stretch" : "End it now"}
        </Button>
        <Button variant="outlined" onClick={close}>
          Leave it as it is
        </Button>
      </div>
    </section>
  );
}
