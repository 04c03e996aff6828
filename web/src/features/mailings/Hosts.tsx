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
  return said.join(", ");
}

/** So many groups are told, the largest; of fewer it is all of them. */
const TOLD = 50;

/** How a mailing goes while its sender is warmed up; nothing where all of it goes on the first day. */
function Days({ groups }: { groups: Group[] }) {
  const last = Math.max(0, ...groups.map((g) => g.warm_up?.last ?? 0));
  if (last === 0) return null;
  const sum = (of: (g: Group) => number) => groups.reduce((n, g) => n + of(g), 0);
  return (
    <>
      Its sender is being <Link to="/delivery/warm-up">warmed up</Link>:{" "}
      <b>{count(sum((g) => g.warm_up?.at_once ?? g.people))}</b> of{" "}
      {plural(
        sum((g) => g.people),
        "person",
        "people",
      )}
      {groups.length >= TOLD && ` in its ${count(groups.length)} largest groups`} get it on the first day, the last on{" "}
      {date(last * DAY)} if all goes well.{" "}
    </>
  );
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
      <Days groups={h.groups} />
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
