import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { Link, Navigate } from "react-router";
import { api, ok } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, words } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { useClearanceSlips } from "./useClearanceSlips";

/** Opens the first coming mailing's sluice. */
export function ClearanceHome() {
  const { slips, first, ready } = useClearanceSlips();
  if (first !== undefined) return <Navigate to={`/clearance/${first}`} replace />;
  return (
    <Frame slips={slips}>
      {ready && (
        <>
          <h1>Clearance</h1>
          <p className="finding">No mailing is coming, so there is nobody to clear.</p>
          <p className="soft">Write a mailing and its sluice shows here: who gets it, who doesn't, and why.</p>
          <Link to="/mailings/new">Write a mailing</Link>
        </>
      )}
    </Frame>
  );
}

/** Where everybody's consent stands. */
export function ConsentPage() {
  const { slips } = useClearanceSlips();
  const standing = useQuery({ queryKey: ["standing"], queryFn: () => ok(api.GET("/api/standing")) });
  return (
    <Frame slips={slips}>
      <Loaded query={standing}>
        {(s) => {
          const all = s.consent.reduce((n, c) => n + c.people, 0);
          const may = s.consent
            .filter((c) => c.state === "consented" || c.state === "confirmed")
            .reduce((n, c) => n + c.people, 0);
          return (
            <>
              <div className="crumb">
                <span>Consent, email</span>
              </div>
              <h1>Consent</h1>
              <p className="finding">
                <em>{count(may)}</em> of {count(all)} people allow marketing mail.
              </p>
              <Table sx={{ maxWidth: 420 }}>
                <TableHead>
                  <TableRow>
                    <TableCell>State</TableCell>
                    <TableCell className="num">People</TableCell>
                  </TableRow>
                </TableHead>
                <TableBody>
                  {s.consent.map((c) => (
                    <TableRow key={c.state}>
                      <TableCell>{words(c.state)}</TableCell>
                      <TableCell className="num">{count(c.people)}</TableCell>
                    </TableRow>
                  ))}
                </TableBody>
              </Table>
              <p className="soft small">
                Only a person's own act, or evidence of one, changes consent. Bounces change the mail status instead.
              </p>
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
