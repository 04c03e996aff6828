import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { count, date, instant, percent, plural } from "../../shared/format";
import { DAY } from "../../shared/time";

type Group = Schemas["AheadGroup"];

const ALERT: Record<Group["alerts"][number], string> = {
  blocked: "lets less in",
  complaints: "has people who complain",
  opened_less: "opens far less than elsewhere",
};

/** What is amiss with a group, in words; nothing where nothing is. */
function amiss(g: Group) {
  const said = g.alerts.map((a) => ALERT[a]);
  if (g.pause) said.unshift(`is paused until ${instant(g.pause.until)}`);
  else if (g.held_back != null) said.unshift("is held back");
  if (g.warm_up)
    said.push(
      `takes ${count(g.warm_up.at_once)} on the first day: the sender is warmed up there, and the last one goes on ${date(g.warm_up.last * DAY)} if all goes well`,
    );
  return said.join(", ");
}

/** What hosts would make of a mailing that hasn't gone. */
export function Hosts({ mailing }: { mailing: number }) {
  const hosts = useQuery({
    queryKey: ["hosts", mailing],
    queryFn: () => ok(api.GET("/api/mailings/{id}/hosts", { params: { path: { id: mailing } } })),
  });
  const h = hosts.data;
  if (!h) return null;
  const told = h.groups.filter((g) => amiss(g) !== "");
  return (
    <div className="soft" style={{ marginTop: 6 }}>
      {h.expected && (
        <>
          Hosts let in about {percent(h.expected.share)} of such a mailing ({percent(h.expected.lower)} to{" "}
          {percent(h.expected.upper)}, by {plural(h.expected.mailings, "mailing")} of the last 90 days).{" "}
        </>
      )}
      {told.map((g) => (
        <span key={g.name}>
          <b>{g.name}</b> ({plural(g.people, "person", "people")}) {amiss(g)}.{" "}
        </span>
      ))}
      {told.length === 0 && h.groups.length > 0 && <>Nothing is amiss with any of {count(h.groups.length)} groups. </>}
      {h.new_name != null && (
        <>
          Hosts have never had mail from <b>{h.new_name}</b>: so much of it at once may be blocked. See{" "}
          <Link to="/delivery/warm-up">Warm-up</Link>.{" "}
        </>
      )}
      {h.wrong.length > 0 && (
        <>
          {h.wrong.map((w) => w.words).join(" ")} See <Link to="/delivery/authentication">Authentication</Link>.
        </>
      )}
    </div>
  );
}
