import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Schemas, api, ok } from "../../api/client";
import { Arm } from "../../shared/Arm";
import { count, instant, plural } from "../../shared/format";
import { Failure } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { useVocabulary } from "../../shared/useVocabulary";

const PHASE = ["all of it", "pilot", "rollout", "check of the rollout"];

/** Where a list is as a file. */
function file(id: number, l: Schemas["HandOutList"], fields: number[]) {
  const asked = new URLSearchParams({ arm: `${l.arm}`, phase: `${l.phase}`, fields: fields.join(",") });
  if (l.hour != null) asked.set("hour", `${l.hour}`);
  if (l.zone != null) asked.set("zone", l.zone);
  return `/api/mailings/${id}/hand-out.csv?${asked}`;
}

/** The lists of a mailing that another system sends: one an arm, with what its log tells of them. */
export function HandOut({ id }: { id: number }) {
  const lists = useQuery({
    queryKey: ["history", "lists", id],
    queryFn: () => ok(api.GET("/api/mailings/{id}/hand-out", { params: { path: { id } } })),
  });
  const fields = useVocabulary().data?.fields ?? [];
  const [chosen, setChosen] = useState<number[]>([]);
  const all = lists.data ?? [];
  const people = all.reduce((n, l) => n + l.people, 0);
  const told = all.reduce((n, l) => n + l.told, 0);
  const hours = all.some((l) => l.hour != null);
  return (
    <>
      <h2>Handed out</h2>
      <p className="finding">
        {all.length === 0 ? (
          "Nobody is on a list yet: they are drawn and cleared when it begins."
        ) : (
          <>
            <em>{plural(people, "person", "people")}</em> {people === 1 ? "is" : "are"} on the lists; the other system’s
            log tells of {count(told)}.
          </>
        )}
      </p>
      <p className="soft" style={{ maxWidth: "50em" }}>
        Each list has the address, the key and the arm. The other system sends each the message of their arm, and its
        log names the mailing by that key: bring the log under <i>Sent elsewhere</i>, or have it told by the event door.
        {hours && " Each list is sent at the instant that stands by it: its hour on the clock of its time zone."} Who is
        on a list counts under the caps from then on, for 14 days unless the log tells that it went.
      </p>
      {fields.length > 0 && all.length > 0 && (
        <p>
          Columns beside:{" "}
          {fields.map((f) => (
            <label key={f.id} style={{ marginRight: 12 }}>
              <input
                type="checkbox"
                checked={chosen.includes(f.id)}
                onChange={(e) => setChosen(e.target.checked ? [...chosen, f.id] : chosen.filter((c) => c !== f.id))}
              />{" "}
              {f.name}
            </label>
          ))}
        </p>
      )}
      <Failure error={lists.error} />
      {all.length > 0 && (
        <DataTable
          name="Lists"
          plain
          rows={all}
          id={(l) => `${l.phase}-${l.arm}-${l.hour}-${l.zone}`}
          columns={(col) => [
            col.shown(
              "Arm",
              (l) => l.arm,
              (l) => <Arm index={l.arm} />,
            ),
            ...(hours
              ? [
                  col.text("Hour", (l) =>
                    l.hour == null ? "the usual one" : `${l.hour.toString().padStart(2, "0")}:00`,
                  ),
                  col.text("Time zone", (l) => l.zone ?? ""),
                  col.text("Goes at (UTC)", (l) => (l.sends_at == null ? "" : instant(l.sends_at))),
                ]
              : [col.text("Of", (l) => PHASE[l.phase])]),
            col.text("Key", (l) => l.key),
            col.number("On the list", (l) => l.people),
            col.number("Told of", (l) => l.told),
            col.number(hours ? "At another hour" : "Got another arm’s", (l) => l.crossed),
            col.number("To come", (l) => l.to_come),
            col.acts((l) => (
              <a href={file(id, l, chosen)}>
                CSV<span className="away"> of {[l.key, l.hour, l.zone].filter((p) => p != null).join(", ")}</span>
              </a>
            )),
          ]}
        />
      )}
    </>
  );
}
