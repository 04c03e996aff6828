import { Button, Switch, Table, TableBody, TableCell, TableHead, TableRow, TextField } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { instant, percent, plural, clock } from "../../shared/format";
import { Failure, Loaded } from "../../shared/states";
import { type Cap, type RuleSet } from "./rulesForm";
import { Effects } from "./Effects";
import { useClearanceSlips } from "./useClearanceSlips";
import { HoursTable, QuietHours } from "./Hours";
import { CapRow } from "./CapRow";
import { Countries } from "./Countries";

type View = Schemas["RulesView"];
const NEW_CAP: Cap = { limit: 3, window: { kind: "days", n: 7 }, scope: { kind: "marketing" }, in_force: true };

function Finding({ view }: { view: View }) {
  const inForce = view.caps.filter((c) => c.in_force);
  const idle = view.caps.length - inForce.length;
  if (view.caps.length === 0)
    return (
      <p className="finding">
        There is <em className="bad">no cap</em>: nothing limits how many marketing messages a person gets.
      </p>
    );
  return (
    <p className="finding">
      {inForce.length > 0 ? (
        <>
          Nobody gets more than <em>{inForce.map((c) => `${c.words} (${c.scope})`).join(", and ")}</em>.
        </>
      ) : (
        <>
          No cap is <em className="bad">in force</em>: they are written down, and hold nobody.
        </>
      )}
      {idle > 0 && inForce.length > 0 && (
        <>
          {" "}
          <em className="bad">{plural(idle, "cap")} not in force</em>: written down, and holding nobody.
        </>
      )}
    </p>
  );
}

function Editor({ view, from, started }: { view: View; from: RuleSet; started: string }) {
  const [rules, setRules] = useState(from);
  const [note, setNote] = useState(started);
  const caps = rules.caps ?? [];
  const body = { rules, note };
  const preview = useMutation({ mutationFn: () => ok(api.POST("/api/rules/preview", { body })) });
  const save = useMutation({
    mutationFn: () => ok(api.PUT("/api/rules", { body })),
  });
  const change = (r: RuleSet) => {
    setRules(r);
    preview.reset();
  };
  const setCap = (i: number, cap: Cap) => change({ ...rules, caps: caps.map((c, j) => (i === j ? cap : c)) });
  return (
    <>
      <h2>Caps</h2>
      <p className="soft" style={{ maxWidth: "48em", marginTop: 0 }}>
        All of them hold together. Someone over one is held, and gets the mailing at the first instant that every cap
        and the hours allow; a mailing may skip them instead.
      </p>
      {caps.length > 0 && (
        <Table>
          <TableHead>
            <TableRow>
              <TableCell>At most</TableCell>
              <TableCell>In</TableCell>
              <TableCell />
              <TableCell>Counted</TableCell>
              <TableCell />
              <TableCell />
            </TableRow>
          </TableHead>
          <TableBody>
            {caps.map((cap, i) => (
              <CapRow
                key={i}
                cap={cap}
                view={view}
                change={(c) => setCap(i, c)}
                remove={() => change({ ...rules, caps: caps.filter((_, j) => j !== i) })}
              />
            ))}
          </TableBody>
        </Table>
      )}
      <p>
        <button className="plain" onClick={() => change({ ...rules, caps: [...caps, NEW_CAP] })}>
          Add a cap
        </button>
      </p>
      <h2>Sending hours</h2>
      <p className="soft" style={{ marginTop: 0 }}>
        By each person's own clock; people without a time zone have the letterhead's.
      </p>
      <HoursTable rules={rules} view={view} change={change} />
      <h2>Quiet hours for text messages</h2>
      <QuietHours rules={rules} change={change} />
      <h2>Countries where people must confirm</h2>
      <p className="soft" style={{ marginTop: 0 }}>
        There, consent without a confirmed sign-up gets no marketing. People of unknown country count as the
        letterhead's own.
      </p>
      <Countries rules={rules} view={view} change={change} />
      <h2>Global holdout</h2>
      <p style={{ marginTop: 0, maxWidth: "48em" }}>
        <Switch
          size="small"
          checked={!!rules.holdout}
          onChange={(e) => change({ ...rules, holdout: e.target.checked ? { share: 0.05 } : null })}
          slotProps={{ input: { "aria-label": "Global holdout" } }}
        />{" "}
        {rules.holdout ? (
          <>
            <input
              aria-label="Share held out, per cent"
              size={4}
              value={Number((rules.holdout.share * 100).toFixed(2))}
              onChange={(e) => change({ ...rules, holdout: { share: (Number(e.target.value) || 0) / 100 } })}
            />{" "}
            % of people get no marketing this quarter, so that what mail earns can be read against them. They are drawn
            again each quarter.
          </>
        ) : (
          <span className="soft">Off: everybody who may get marketing gets it.</span>
        )}
      </p>
      <div className="fields" style={{ maxWidth: 560 }}>
        <TextField label="Why" value={note} onChange={(e) => setNote(e.target.value)} />
      </div>
      {preview.data && <Effects effects={preview.data.effects} />}
      <Failure error={preview.error ?? save.error} />
      <div className="acts">
        <Button variant="contained" disabled={save.isPending} onClick={() => save.mutate()}>
          Save as the next version
        </Button>
        <Button variant="outlined" disabled={preview.isPending} onClick={() => preview.mutate()}>
          What it would do
        </Button>
      </div>
    </>
  );
}

/** A version in a few words. */
function summary(r: RuleSet) {
  const caps = r.caps ?? [];
  const hours = r.hours ?? [];
  const parts = [
    caps.length ? `${caps.filter((c) => c.in_force).length} of ${plural(caps.length, "cap")} in force` : "no cap",
  ];
  if (hours.length) parts.push(`hours for ${plural(hours.length, "letterhead")}`);
  parts.push(r.quiet ? `quiet ${clock(r.quiet.from_minute)} to ${clock(r.quiet.until_minute)}` : "no quiet hours");
  if (r.confirm?.length) parts.push(`confirm in ${r.confirm.join(", ")}`);
  if (r.holdout) parts.push(`holdout ${percent(r.holdout.share)}`);
  return parts.join("; ");
}

export function RulesPage() {
  const { slips } = useClearanceSlips();
  const rules = useQuery(queries.rules);
  const versions = useQuery({ queryKey: ["rules", "versions"], queryFn: () => ok(api.GET("/api/rules/versions")) });
  const [back, setBack] = useState<Schemas["RulesVersion"] | null>(null);
  return (
    <Frame slips={slips}>
      <Loaded query={rules}>
        {(view) => {
          const v = view.version;
          const going = back && back.id !== v.id ? back : null;
          return (
            <>
              <div className="crumb">
                <span>Rules version {v.id}</span>
                {v.at > 0 && (
                  <span>
                    {instant(v.at)}
                    {v.person ? `, ${v.person}` : ""}
                  </span>
                )}
                {v.note && <span>{v.note}</span>}
              </div>
              <h1>Caps, hours and who must confirm</h1>
              <Finding view={view} />
              {going && (
                <p className="note">
                  These are the rules of version {going.id}. Nothing is saved yet.{" "}
                  <button className="plain" onClick={() => setBack(null)}>
                    Back to those in force
                  </button>
                </p>
              )}
              <Editor
                key={`${v.id} ${going?.id ?? ""}`}
                view={view}
                from={going?.rules ?? v.rules}
                started={going ? `Back to version ${going.id}` : ""}
              />
              <h2>Versions</h2>
              <Table>
                <TableBody>
                  {(versions.data ?? []).map((x) => (
                    <TableRow key={x.id}>
                      <TableCell>{x.id}</TableCell>
                      <TableCell style={{ whiteSpace: "nowrap" }}>{x.at > 0 ? instant(x.at) : "at first"}</TableCell>
                      <TableCell>{x.person ?? ""}</TableCell>
                      <TableCell>{summary(x.rules)}</TableCell>
                      <TableCell className="soft">{x.note}</TableCell>
                      <TableCell className="num">
                        {x.id === v.id ? (
                          "in force"
                        ) : (
                          <button
                            className="plain"
                            onClick={() => {
                              setBack(x);
                              window.scrollTo({ top: 0 });
                            }}
                          >
                            Look at it
                          </button>
                        )}
                      </TableCell>
                    </TableRow>
                  ))}
                </TableBody>
              </Table>
              <p className="soft small">
                Every message keeps the version it was cleared under. <Link to="/clearance/forecast">The forecast</Link>{" "}
                shows what these rules do in the coming weeks.
              </p>
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
