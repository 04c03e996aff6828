import { Table, TableBody, TableCell, TableRow } from "@mui/material";
import { type Schemas } from "../../api/client";
import { type RuleSet } from "./rulesForm";
import { MinutePick } from "../../shared/Moment";

type View = Schemas["RulesView"];

type Hours = Schemas["Hours"];

/** From when to when, by the clock. */
function HoursFields({
  hours,
  labels,
  change,
}: {
  hours: Hours;
  labels: [string, string];
  change: (hours: Hours) => void;
}) {
  const time = (key: keyof Hours, label: string) => (
    <MinutePick
      inline
      label={label}
      value={hours[key]}
      onChange={(m) => m !== null && change({ ...hours, [key]: m })}
    />
  );
  return (
    <>
      {time("from_minute", labels[0])} to {time("until_minute", labels[1])}
    </>
  );
}

/** The sending hours of each letterhead. */
export function HoursTable({ rules, view, change }: { rules: RuleSet; view: View; change: (r: RuleSet) => void }) {
  const all = rules.hours ?? [];
  const set = (letterhead: number, hours: Hours | null) =>
    change({
      ...rules,
      hours: [...all.filter((h) => h.letterhead !== letterhead), ...(hours ? [{ letterhead, hours }] : [])],
    });
  return (
    <Table sx={{ maxWidth: 560 }}>
      <TableBody>
        {view.letterheads.map((l) => {
          const id = l.id ?? 0;
          const hours = all.find((h) => h.letterhead === id)?.hours;
          return (
            <TableRow key={id}>
              <TableCell>{l.name}</TableCell>
              <TableCell>
                {hours ? (
                  <HoursFields
                    hours={hours}
                    labels={[`From, ${l.name}`, `Until, ${l.name}`]}
                    change={(h) => set(id, h)}
                  />
                ) : (
                  <span className="soft">at any hour</span>
                )}
              </TableCell>
              <TableCell className="num">
                <button
                  className="plain"
                  onClick={() => set(id, hours ? null : { from_minute: 480, until_minute: 1200 })}
                >
                  {hours ? "At any hour" : "Set hours"}
                </button>
              </TableCell>
            </TableRow>
          );
        })}
      </TableBody>
    </Table>
  );
}

/** When no text message goes out. */
export function QuietHours({ rules, change }: { rules: RuleSet; change: (r: RuleSet) => void }) {
  const quiet = rules.quiet;
  return (
    <p style={{ marginTop: 0, maxWidth: "48em" }}>
      {quiet ? (
        <>
          No text message goes out from{" "}
          <HoursFields
            hours={quiet}
            labels={["Quiet from", "Quiet until"]}
            change={(quiet) => change({ ...rules, quiet })}
          />
          , by each person's own clock. Everybody whom it would reach then is held until it is over.{" "}
        </>
      ) : (
        <em className="bad">Text messages go out at any hour of the night. </em>
      )}
      <button
        className="plain"
        onClick={() => change({ ...rules, quiet: quiet ? null : { from_minute: 1260, until_minute: 480 } })}
      >
        {quiet ? "At any hour" : "Set quiet hours"}
      </button>
    </p>
  );
}
