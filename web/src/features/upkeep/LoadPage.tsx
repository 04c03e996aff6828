import { queryOptions, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { bare, count, date, percent, plural } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { useUpkeepSlips } from "./useUpkeepSlips";
import { DAY } from "../../shared/time";

const asked = queryOptions({ queryKey: ["load"], queryFn: () => ok(api.GET("/api/load")) });

type Cell = Schemas["LoadCell"];
const ANSWERS: { answer: Cell["answer"]; says: string }[] = [
  { answer: "new", says: "under 4 messages" },
  { answer: "rising", says: "a fifth up, 80% sure" },
  { answer: "steady", says: "neither" },
  { answer: "slackening", says: "a fifth down, 80% sure" },
  { answer: "silent", says: "8 messages, 90 days" },
];
const MAILS: Cell["mail"][] = ["dense", "usual", "sparse"];

/** One rate with its interval; hollow words when it is thin. */
function Share({ rate, what }: { rate: Schemas["Rate"]; what: string }) {
  return (
    <div className="small soft">
      {what} {percent(rate.rate)}{" "}
      <span style={{ whiteSpace: "nowrap" }}>
        ({bare(rate.lower)} to {bare(rate.upper)}
        {rate.thin ? ", thin" : ""})
      </span>
    </div>
  );
}

/** Where a segment of some cells begins. */
const segment = (name: string, cells: Cell[]) =>
  `/contacts/segments/new?${new URLSearchParams({ name, tree: JSON.stringify({ kind: "load", cells: cells.map((c) => c.cell) }) })}`;

/** How the cell moved since the earlier day. */
function Moved({ cell, from }: { cell: Cell; from: number | null | undefined }) {
  if (cell.people_before === null || cell.people_before === undefined || !from) return null;
  const by = cell.people - cell.people_before;
  return (
    <div className="small soft">
      {by === 0 ? "as many as" : by > 0 ? `${count(by)} more than` : `${count(-by)} fewer than`} before
    </div>
  );
}

/** How much mail people get, by how they answer it: it describes, and proves nothing. */
export function LoadPage() {
  const slips = useUpkeepSlips();
  const load = useQuery(asked);
  return (
    <Frame slips={slips}>
      <Loaded query={load}>
        {(v) => {
          const of = (mail: string, answer: string) => v.cells.find((c) => c.mail === mail && c.answer === answer)!;
          if (v.day == null)
            return (
              <>
                <h1>Mail load</h1>
                <p className="finding">It has not been worked out yet.</p>
                <p className="soft">
                  It is worked out once a day, from the messages people got and how they answered them. Send a mailing,
                  or move the demo clock.
                </p>
              </>
            );
          const over = v.cells.filter((c) => c.mail === "dense" && ["slackening", "silent"].includes(c.answer));
          const under = v.cells.filter((c) => c.mail === "sparse" && ["rising", "steady"].includes(c.answer));
          const people = (cells: Cell[]) => cells.reduce((n, c) => n + c.people, 0);
          return (
            <>
              <div className="crumb">
                <span>Upkeep</span>
                <span>as of {date(v.day * DAY)}</span>
              </div>
              <h1>Mail load</h1>
              <p className="finding">
                <em>{plural(people(over), "person gets", "people get")} more than they answer to</em>;{" "}
                {plural(people(under), "person", "people")} would bear more.
              </p>
              <p className="soft">
                More than they answer to: dense mail, and slackening or silent.{" "}
                <Link to={segment("More mail than they answer to", over)}>As a segment, to leave out</Link>. Would bear
                more: sparse mail, and rising or steady.{" "}
                <Link to={segment("Would bear more mail", under)}>As a segment, to aim at</Link>.
              </p>
              <div className="load" role="table" aria-label="People by mail and answer">
                <div role="row" className="head">
                  <div role="columnheader" className="soft small">
                    mail, per 28 days
                  </div>
                  {ANSWERS.map((a) => (
                    <div role="columnheader" key={a.answer}>
                      <b>{a.answer}</b>
                      <div className="small soft">{a.says}</div>
                    </div>
                  ))}
                </div>
                {MAILS.map((mail) => (
                  <div role="row" key={mail}>
                    <div role="rowheader">
                      <b>{mail}</b>
                      <div className="small soft">
                        {mail === "dense"
                          ? `over ${v.usual[1]!.toFixed(1)}`
                          : mail === "sparse"
                            ? `under ${v.usual[0]!.toFixed(1)}`
                            : `${v.usual[0]!.toFixed(1)} to ${v.usual[1]!.toFixed(1)}`}
                      </div>
                    </div>
                    {ANSWERS.map(({ answer }) => {
                      const c = of(mail, answer);
                      return (
                        <div role="cell" key={answer}>
                          {c.people === 0 ? (
                            <span className="soft">nobody</span>
                          ) : (
                            <>
                              <Link to={`/contacts?load=${c.cell}`} className="figure">
                                {count(c.people)}
                              </Link>
                              <Share rate={c.complained} what="complained" />
                              <Share rate={c.withdrew} what="withdrew" />
                              <Moved cell={c} from={v.before} />
                            </>
                          )}
                        </div>
                      );
                    })}
                  </div>
                ))}
              </div>
              <p className="soft" style={{ maxWidth: "62em" }}>
                Complaints and withdrawals are those of the last 90 days, of the people in the cell now, with 95%
                intervals{v.before ? `; “before” is ${date(v.before * DAY)}` : ""}. All history counts, with weights
                that halve every six weeks; rates are shrunk to the base’s own ({percent(v.mean_rate[0])} of messages
                are answered). {plural(v.open_blind, "person", "people")} whose opens can’t be told from a machine’s are
                judged by clicks, replies and purchases, over twice the time. This describes; it doesn’t prove that mail
                caused it.
              </p>
              <p className="soft small">
                A cell is a condition in <Link to="/contacts/segments/new">segments</Link>, and a mailing can leave
                cells out.
              </p>
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
