import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { count, percent, plural } from "../../shared/format";

type View = Schemas["SeriesView"];
type Line = View["lines"][number];
type Rate = Schemas["Rate"];

/** A rate with its interval; hollow where there are too few. */
const rate = (r: Rate | null | undefined) =>
  !r || r.rate == null
    ? "–"
    : `${percent(r.rate)} (${percent(r.lower)} to ${percent(r.upper)}${r.thin ? ", thin" : ""})`;

function Mail({ m }: { m: Schemas["SeriesMail"] }) {
  const beside = [
    m.held > 0 && `${count(m.held)} held by a rule`,
    m.pending > 0 && `${count(m.pending)} on their way`,
    m.barred > 0 && `${count(m.barred)} barred`,
    m.failed > 0 && `${count(m.failed)} failed`,
  ].filter(Boolean);
  return (
    <div className="soft small">
      {count(m.accepted)} accepted
      {m.accepted > 0 && `, opened ${rate(m.opened)}, clicked ${rate(m.clicked)}, left ${rate(m.left)}`}
      {beside.length > 0 && `; ${beside.join(", ")}`}
      {m.trial != null && (
        <>
          ; its variants are in <Link to={`/trials/${m.trial}`}>a trial</Link>
        </>
      )}
    </div>
  );
}

function Row({ v, l, rates }: { v: View; l: Line; rates: boolean }) {
  const to = (who: string) => `/series/${v.id}/people?who=${who}`;
  const open = (n: number, who: string) => (n > 0 ? <Link to={to(who)}>{count(n)}</Link> : "0");
  return (
    <TableRow>
      <TableCell style={{ paddingLeft: l.depth * 28 }}>
        <div style={l.depth ? { borderLeft: "2px solid var(--rule)", paddingLeft: 12 } : undefined}>
          {l.on_yes != null && <b>{l.on_yes ? "yes: " : "no: "}</b>}
          {l.mailing != null ? <Link to={`/mailings/${l.mailing}`}>{l.words}</Link> : l.words}
          {l.mail && <Mail m={l.mail} />}
          {l.yes && l.on > 0 && (
            <div className="soft small">
              {l.words.endsWith("?") ? (
                <>
                  yes {rate(l.yes)}: <Link to={to(`yes-${l.step}`)}>{count(l.yes.count)} went that way</Link>,{" "}
                  <Link to={to(`no-${l.step}`)}>{count(l.yes.of - l.yes.count)} the other</Link>
                </>
              ) : (
                <>it happened in time for {rate(l.yes)}</>
              )}
            </div>
          )}
        </div>
      </TableCell>
      <TableCell className="num">{rates ? rate(l.reached) : open(l.came, `came-${l.step}`)}</TableCell>
      <TableCell className="num">{open(l.here, `here-${l.step}`)}</TableCell>
      <TableCell className="num">{count(l.on)}</TableCell>
    </TableRow>
  );
}

/** The outline with its counts, and how people came out of it. */
export function Lines({ v }: { v: View }) {
  const [rates, setRates] = useState(false);
  if (v.lines.length === 0) return <p className="soft">It has no steps yet: change the outline to add them.</p>;
  return (
    <>
      <Table style={{ marginTop: 16 }}>
        <TableHead>
          <TableRow>
            <TableCell>
              Step{" "}
              <button className="plain" aria-pressed={rates} onClick={() => setRates(!rates)}>
                {rates ? "as counts" : "as shares of those who entered"}
              </button>
            </TableCell>
            <TableCell className="num">Came to it</TableCell>
            <TableCell className="num">There now</TableCell>
            <TableCell className="num">Went on</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {v.lines.map((l) => (
            <Row key={l.step} v={v} l={l} rates={rates} />
          ))}
        </TableBody>
      </Table>
      {v.out.length > 0 && (
        <>
          <h2>How they came out</h2>
          {v.out.map((o) => (
            <p key={o.why} style={{ borderTop: "1px solid var(--rule)", margin: 0, padding: "6px 0" }}>
              <Link to={`/series/${v.id}/people?who=out-${encodeURIComponent(o.why)}`}>
                {plural(o.people.count, "person", "people")}
              </Link>{" "}
              {o.why} <span className="soft">{rate(o.people)} of those who entered</span>
            </p>
          ))}
        </>
      )}
    </>
  );
}
