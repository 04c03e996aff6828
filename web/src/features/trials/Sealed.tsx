import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ok, type Schemas } from "../../api/client";
import { Arm } from "../../shared/Arm";
import { count, instant, letter, plural } from "../../shared/format";

type View = Schemas["TrialView"];

/** The plan's seal, the looks it has, and how evenly the arms were filled. */
export function Sealed({ v }: { v: View }) {
  const [open, setOpen] = useState(false);
  const { trial } = v;
  const seal = useQuery({
    queryKey: ["seal", trial.id],
    queryFn: () => ok(api.GET("/api/trials/{id}/seal", { params: { path: { id: trial.id } } })),
    enabled: !!v.digest,
  }).data;
  if (!v.digest) return null;
  const balance = seal?.balance ?? [];
  return (
    <>
      <h2>The seal</h2>
      {!seal ? (
        <p className="soft">Looking at it …</p>
      ) : seal.broken ? (
        <p className="note bad">{seal.broken}</p>
      ) : (
        <p className="soft" style={{ margin: "0 0 4px" }}>
          {v.enrolment
            ? `The plan, its seed and the variants are as they were sealed ${instant(trial.sealed_at)} UTC, and the shares as they were written down since.`
            : `The plan, its seed, the variants and the roster are as they were sealed ${instant(trial.sealed_at)} UTC.`}
        </p>
      )}
      {trial.plan.reserves && (
        <p className="soft" style={{ margin: "0 0 4px" }}>
          Its people are reserved: no other marketing mailing goes to them until the window ends.
        </p>
      )}
      {trial.small_reason && (
        <p className="soft" style={{ margin: "0 0 4px" }}>
          {trial.small_by} let it go under its needed size: {trial.small_reason}
        </p>
      )}
      <p className="soft small" style={{ wordBreak: "break-all", margin: "0 0 6px" }}>
        SHA-256 {v.digest}
      </p>
      {v.looks.length > 0 && (
        <p className="soft small" style={{ margin: "0 0 6px", maxWidth: "50em" }}>
          {trial.looked} of {v.looks.length} looks held. A look stops an arm that makes people leave or complain by more
          than the margin,{v.enrolment ? " each when a further share of the people has been through its window," : ""}{" "}
          at z {v.looks.map((l) => l.z_bound.toFixed(2)).join(", then ")}; it calls nothing.{" "}
          {trial.stopped.length === 0 ? "None was stopped." : ""}
        </p>
      )}
      {trial.stopped.map((s) => (
        <p key={s.arm} className="note bad">
          {letter(s.arm)} was stopped {instant(s.at)} for {s.harm}: z {s.z.toFixed(2)} against {letter(s.against)}, over
          the bound of {s.z_bound.toFixed(2)}.
        </p>
      ))}
      <p>
        <button className="plain" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open
            ? "Hide the strata"
            : `How evenly the arms were filled, over ${plural(balance.length, v.enrolment ? "stretch" : "stratum", v.enrolment ? "stretches" : "strata")}`}
        </button>
      </p>
      {open && (
        <Table size="small" sx={{ maxWidth: 720 }}>
          <TableHead>
            <TableRow>
              <TableCell>{v.enrolment ? "Stretch" : "Stratum"}</TableCell>
              {v.subjects.map((_, i) => (
                <TableCell key={i} className="num">
                  <Arm index={i} />
                </TableCell>
              ))}
              {(trial.plan.no_mail ?? 0) > 0 && <TableCell className="num">no mail</TableCell>}
            </TableRow>
          </TableHead>
          <TableBody>
            {balance.map((b) => (
              <TableRow key={b.stratum}>
                <TableCell>{b.stratum}</TableCell>
                {b.people.map((n, i) => (
                  <TableCell key={i} className="num">
                    {count(n)}
                  </TableCell>
                ))}
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
    </>
  );
}
