import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { RateNote } from "../../shared/Figure";
import { count, date, percent, plural } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { DAY } from "../../shared/time";
import { GroupDays, words } from "./GroupDays";
import { deliverySlips } from "./slips";

type Group = Schemas["DeliveryGroup"];

function Sentence({ groups }: { groups: Group[] }) {
  const worse = groups.filter((g) => g.let_in === "little" || g.let_in === "less");
  const [first, ...others] = worse.filter((g) => g.about === "us");
  const bounce = worse.filter((g) => g.about === "addresses");
  if (groups.length === 0) return <p className="finding">No mail went out in the last four weeks.</p>;
  return (
    <p className="finding">
      {first ? (
        <>
          Our mail is let in everywhere but at <em>{first.name}</em>: {percent(first.blocked.rate)} blocked
          {first.blocked_since != null && `, last from ${date(first.blocked_since * DAY)} on`}
          {others.length > 0 && `; and at ${others.map((g) => g.name).join(", ")}`}
        </>
      ) : (
        <>
          Our mail is <em>let in</em> everywhere, as far as can be told
        </>
      )}
      {bounce.length > 0 &&
        `; for the addresses’ own reasons ${bounce.map((g) => `${percent(g.bounced.rate)} bounced at ${g.name}`).join(", ")}`}
      .
    </p>
  );
}

/** How each mail domain lets our mail in, over four weeks. */
export function DeliveryPage() {
  const view = useQuery({ queryKey: ["delivery"], queryFn: () => ok(api.GET("/api/delivery")) });
  return (
    <Frame slips={deliverySlips}>
      <Loaded query={view}>
        {(v) => (
          <>
            <div className="crumb">
              <span>Delivery</span>
              <span>
                {date(v.from_day * DAY)} to {date(v.to_day * DAY)}, UTC
              </span>
            </div>
            <h1>Is our mail let in?</h1>
            <Sentence groups={v.groups} />
            {v.new_sources > 0 && (
              <p className="note">
                {plural(v.new_sources, "source")} that nobody had seen before {v.new_sources === 1 ? "sends" : "send"}{" "}
                in our name: <Link to="/delivery/reports">look at it</Link>.
              </p>
            )}
            {v.groups.length > 0 && (
              <>
                <GroupDays v={v} />
                <DataTable<Group>
                  name="Mail domains"
                  rows={v.groups}
                  id={(g) => g.key}
                  columns={(col) => [
                    col.shown(
                      "Domain",
                      (g) => g.name,
                      (g) => <Link to={`/findings?domain=${g.key}&days=30`}>{g.name}</Link>,
                    ),
                    col.number("Handed over", (g) => g.accepted.of),
                    ...(
                      [
                        ["Accepted", (g: Group) => g.accepted, 1],
                        ["Blocked", (g: Group) => g.blocked, 2],
                        ["Bounced", (g: Group) => g.bounced, 2],
                        ["Complaints", (g: Group) => g.complaints, 2],
                      ] as const
                    ).map(([head, of, digits]) =>
                      col.shown(
                        head,
                        (g) => of(g).rate,
                        (g) => (
                          <>
                            {percent(of(g).rate, digits)}
                            <RateNote rate={of(g)} digits={digits} />
                          </>
                        ),
                        { num: true },
                      ),
                    ),
                    col.text("Let in", words),
                  ]}
                />
              </>
            )}
            <p className="soft small" style={{ maxWidth: "62em" }}>
              Marks: 97% accepted, 95%. A domain is told to be under one only where the whole 95% interval of its
              accepted mail is: {count(v.accepted.of)} messages in all, {percent(v.accepted.rate)} accepted. Domains of
              fewer than 20 people stand together. What hosts said stands in{" "}
              <Link to="/upkeep/reasons">reply lines</Link>.
            </p>
          </>
        )}
      </Loaded>
    </Frame>
  );
}
