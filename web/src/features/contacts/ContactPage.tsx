import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api, ok } from "../../api/client";
import { Frame } from "../../app/Frame";
import { instant, words } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { statusTone } from "./PeopleTable";
import { useContactSlips } from "./useContactSlips";

/** A person: profile, ledger, messages, responses. */
export function ContactPage() {
  const id = Number(useParams().id);
  const slips = useContactSlips();
  const person = useQuery({
    queryKey: ["contact", id],
    queryFn: () => ok(api.GET("/api/contacts/{id}", { params: { path: { id } } })),
  });
  return (
    <Frame slips={slips}>
      <Loaded query={person}>
        {(p) => (
          <>
            <div className="crumb">
              <Link to="/contacts">Contacts</Link>
              <span>added {instant(p.added_at)}</span>
            </div>
            <h1>{[p.given_name, p.family_name].filter(Boolean).join(" ") || p.address}</h1>
            <p className="finding">
              Consent: <em>{words(p.consent)}</em>. Mail status:{" "}
              <em className={statusTone(p.status)}>{words(p.status)}</em>
              {p.status === "resting" && p.status_until ? ` until ${instant(p.status_until)}` : ""}.
            </p>
            <p className="soft" style={{ maxWidth: "48em" }}>
              {p.status_why}
            </p>
            <dl className="facts">
              <dt>Address</dt>
              <dd>{p.address}</dd>
              <dt>Country, zone</dt>
              <dd>{[p.country, p.zone].filter(Boolean).join(", ") || "–"}</dd>
              <dt>Source</dt>
              <dd>{p.source ?? "–"}</dd>
              <dt>Lists</dt>
              <dd>{p.lists.join(", ") || "–"}</dd>
              <dt>Topics left</dt>
              <dd>{p.topics_left.join(", ") || "none"}</dd>
            </dl>
            <h2>Ledger</h2>
            <Table>
              <TableHead>
                <TableRow>
                  <TableCell>When</TableCell>
                  <TableCell>What</TableCell>
                  <TableCell>From</TableCell>
                  <TableCell>Evidence or reason</TableCell>
                </TableRow>
              </TableHead>
              <TableBody>
                {p.ledger.map((e, i) => (
                  <TableRow key={i}>
                    <TableCell style={{ whiteSpace: "nowrap" }}>{instant(e.at)}</TableCell>
                    <TableCell
                      className={
                        ["retired", "withdrew", "complained"].includes(e.kind)
                          ? "bad"
                          : e.kind === "resting"
                            ? "wait"
                            : ""
                      }
                    >
                      {e.kind}
                      {e.topic ? `: ${e.topic}` : ""}
                      {e.until ? ` until ${instant(e.until)}` : ""}
                    </TableCell>
                    <TableCell>
                      {e.source}
                      {e.person ? `, ${e.person}` : ""}
                    </TableCell>
                    <TableCell>{e.evidence}</TableCell>
                  </TableRow>
                ))}
              </TableBody>
            </Table>
            <h2>Messages</h2>
            {p.messages.length === 0 && <p className="soft">None yet.</p>}
            {p.messages.length > 0 && (
              <Table>
                <TableHead>
                  <TableRow>
                    <TableCell>When</TableCell>
                    <TableCell>Mailing</TableCell>
                    <TableCell>Subject</TableCell>
                    <TableCell>Went</TableCell>
                  </TableRow>
                </TableHead>
                <TableBody>
                  {p.messages.map((m) => (
                    <TableRow key={m.send_id}>
                      <TableCell style={{ whiteSpace: "nowrap" }}>{instant(m.at)}</TableCell>
                      <TableCell>
                        <Link to={`/mailings/${m.mailing_id}`}>{m.mailing}</Link>
                      </TableCell>
                      <TableCell>{m.subject}</TableCell>
                      <TableCell className={m.state === "failed" ? "bad" : ""}>
                        {m.state}
                        {m.state === "failed" && m.category ? `: ${m.category} (${m.reply})` : ""}
                      </TableCell>
                    </TableRow>
                  ))}
                </TableBody>
              </Table>
            )}
            <h2>Responses</h2>
            {p.responses.length === 0 && <p className="soft">None yet.</p>}
            {p.responses.length > 0 && (
              <Table>
                <TableHead>
                  <TableRow>
                    <TableCell>When</TableCell>
                    <TableCell>What</TableCell>
                    <TableCell>To</TableCell>
                    <TableCell>Judged</TableCell>
                  </TableRow>
                </TableHead>
                <TableBody>
                  {p.responses.map((r, i) => (
                    <TableRow key={i}>
                      <TableCell style={{ whiteSpace: "nowrap" }}>{instant(r.at)}</TableCell>
                      <TableCell>
                        {r.kind}
                        {r.link ? `: ${r.link}` : ""}
                      </TableCell>
                      <TableCell>{r.mailing}</TableCell>
                      <TableCell className={r.human ? "" : "soft"}>{r.judged}</TableCell>
                    </TableRow>
                  ))}
                </TableBody>
              </Table>
            )}
          </>
        )}
      </Loaded>
    </Frame>
  );
}
