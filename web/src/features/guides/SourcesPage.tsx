import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { bare, count, percent, plural } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { useWorking } from "../../shared/working";
import { useContactSlips } from "../contacts/useContactSlips";

type Rate = Schemas["Rate"];

/** Where people came from, and what became of them. */
export function SourcesPage() {
  const slips = useContactSlips();
  const { show } = useWorking();
  const sources = useQuery({ queryKey: ["sources"], queryFn: () => ok(api.GET("/api/sources")) });
  const cell = (source: string, what: string, counted: string, r: Rate, digits: number) => (
    <TableCell className="num">
      <button
        className="figure"
        onClick={() =>
          show({
            title: `${what}: ${percent(r.rate, digits)}`,
            body: (
              <>
                <div className="formula">
                  {count(r.count)} / {count(r.of)} = {percent(r.rate, 2)}
                </div>
                <dl>
                  <dt>Interval (Wilson, 95%)</dt>
                  <dd>
                    {bare(r.lower, 2)} to {bare(r.upper, 2)}
                  </dd>
                </dl>
                <h3>Counted</h3>
                <p style={{ marginTop: 0 }}>{counted}</p>
                <p className="soft">{source}. No other filter in force.</p>
              </>
            ),
          })
        }
      >
        {percent(r.rate, digits)}
      </button>
      <br />
      <span className="soft small">{r.thin ? "thin" : `${bare(r.lower, digits)} to ${bare(r.upper, digits)}`}</span>
    </TableCell>
  );
  return (
    <Frame slips={slips}>
      <Loaded query={sources}>
        {(all) => {
          const jumped = all.filter((s) => s.jumped);
          return (
            <>
              <div className="crumb">
                <span>Contacts</span>
              </div>
              <h1>Where people came from, and what became of them</h1>
              <p className="finding">
                {jumped.length ? (
                  <>
                    Sign-ups from{" "}
                    <em className="bad">{jumped.map((s) => s.source ?? "no source on record").join(", ")}</em> jumped in
                    the last week: look whether they are people.
                  </>
                ) : (
                  <>
                    <em>{plural(all.length, "source")}</em>; none brought unusually many people in the last week.
                  </>
                )}
              </p>
              <Table>
                <TableHead>
                  <TableRow>
                    <TableCell>Source</TableCell>
                    <TableCell className="num">People</TableCell>
                    <TableCell className="num">No such address</TableCell>
                    <TableCell className="num">Complaints</TableCell>
                    <TableCell className="num">Silence</TableCell>
                    <TableCell className="num">Bought</TableCell>
                    <TableCell className="num">Last week</TableCell>
                  </TableRow>
                </TableHead>
                <TableBody>
                  {all.map((s) => {
                    const name = s.source ?? "no source on record";
                    return (
                      <TableRow key={name}>
                        <TableCell className={s.source == null ? "soft" : ""}>{name}</TableCell>
                        <TableCell className="num">{count(s.people)}</TableCell>
                        {cell(
                          name,
                          "No such address",
                          "People whose host said for good that the address doesn't exist, of those mailed.",
                          s.bounces,
                          1,
                        )}
                        {cell(name, "Complaints", "People who complained, of those mailed.", s.complaints, 2)}
                        {cell(
                          name,
                          "Silence",
                          "People who got four messages or more in 180 days and answered none (no human open, click or reply), of those who got so many; people whose opens can't be told are left out.",
                          s.silence,
                          1,
                        )}
                        {cell(
                          name,
                          "Bought",
                          "People with at least one purchase, of all from this source.",
                          s.conversions,
                          1,
                        )}
                        <TableCell className={s.jumped ? "num bad" : "num"}>
                          {count(s.last_week)}
                          <br />
                          <span className="soft small">usually {s.usual_week.toFixed(1)}</span>
                        </TableCell>
                      </TableRow>
                    );
                  })}
                </TableBody>
              </Table>
              <p className="soft small">
                A jump is a week with at least 20 sign-ups that chance alone would bring less than once in a thousand,
                held against the eight weeks before (exact test of two Poisson rates).
              </p>
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
