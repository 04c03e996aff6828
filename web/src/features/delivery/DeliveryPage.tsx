import { MenuItem, TextField } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { AsOf } from "../../shared/AsOf";
import { RateNote } from "../../shared/Figure";
import { count, date, instant, percent, plural } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { DAY } from "../../shared/time";
import { GroupDays, words } from "./GroupDays";
import { AlertNote, done } from "./AlertNote";
import { deliverySlips } from "./slips";

type Group = Schemas["DeliveryGroup"];

/** A group and the domains that it takes mail for, each leading to its figures. */
function Of({ g }: { g: Group }) {
  const to = (id: number) => `/findings?domain=${id}&days=30`;
  const [first] = g.domains;
  if (g.domains.length === 1 && first?.name === g.name) return <Link to={to(first.id)}>{g.name}</Link>;
  return (
    <>
      {g.name}
      <div className="soft small">
        {g.domains.slice(0, 3).map((d, i) => (
          <span key={d.id}>
            {i > 0 && ", "}
            <Link to={to(d.id)}>{d.name}</Link>
          </span>
        ))}
        {g.domains.length > 3 && ` and ${count(g.domains.length - 3)} more`}
      </div>
    </>
  );
}

const ELSE = { complaints: "people complain", opened_less: "people open far less than elsewhere" };

function Sentence({ groups, alerts }: { groups: Group[]; alerts: Schemas["DeliveryAlert"][] }) {
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
          {first.pause &&
            `; it ${first.pause.by_itself ? "paused itself" : "is paused"} until ${instant(first.pause.until)}`}
          {others.length > 0 && `; and at ${others.map((g) => g.name).join(", ")}`}
        </>
      ) : (
        <>
          Our mail is <em>let in</em> everywhere, as far as can be told
        </>
      )}
      {bounce.length > 0 &&
        `; for the addresses’ own reasons ${bounce.map((g) => `${percent(g.bounced.rate)} bounced at ${g.name}`).join(", ")}`}
      {alerts.map((a) => a.kind !== "blocked" && `; at ${a.group} ${ELSE[a.kind]}`)}.
    </p>
  );
}

/** Whose mail is looked at: one sender's, or everybody's. Where there is one sender only, there is nothing to choose. */
function Sender({ of, choose }: { of: number | undefined; choose: (of: number | undefined) => void }) {
  const senders = useQuery(queries.letterheads).data;
  if (!senders || (senders.length < 2 && of == null)) return null;
  return (
    <div className="acts">
      <TextField
        select
        size="small"
        label="Sender"
        value={of ?? ""}
        onChange={(e) => choose(e.target.value === "" ? undefined : Number(e.target.value))}
        slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
        style={{ width: "16em" }}
      >
        <MenuItem value="">All senders</MenuItem>
        {senders.map((s) => (
          <MenuItem key={s.id} value={s.id}>
            {s.name}
          </MenuItem>
        ))}
      </TextField>
      {of != null && <span className="soft small">Pauses and paces are a group’s, whoever sends.</span>}
    </div>
  );
}

/** How each mail domain lets our mail in, over four weeks. */
export function DeliveryPage() {
  const [asked, ask] = useSearchParams();
  const letterhead = Number(asked.get("sender")) || undefined;
  const view = useQuery({
    queryKey: ["delivery", letterhead],
    queryFn: () => ok(api.GET("/api/delivery", { params: { query: { letterhead } } })),
  });
  const choose = (of: number | undefined) => ask(of == null ? {} : { sender: String(of) }, { replace: true });
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
              <AsOf of="/api/delivery" />
            </div>
            <h1>Is our mail let in?</h1>
            <Sentence groups={v.groups} alerts={v.alerts} />
            {v.new_sources > 0 && (
              <p className="note">
                {plural(v.new_sources, "source")} that nobody had seen before {v.new_sources === 1 ? "sends" : "send"}{" "}
                in our name: <Link to="/delivery/reports">look at it</Link>.
              </p>
            )}
            {v.alerts.map((a) => (
              <AlertNote key={a.id} a={a} group={v.groups.find((g) => g.name === a.group)} />
            ))}
            <Sender of={letterhead} choose={choose} />
            {v.groups.length > 0 && (
              <>
                <GroupDays v={v} />
                <DataTable<Group>
                  name="Mailbox groups"
                  rows={v.groups}
                  id={(g) => g.name}
                  columns={(col) => [
                    col.shown(
                      "Group",
                      (g) => g.name,
                      (g) => <Of g={g} />,
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
                        (g) =>
                          head === "Complaints" && of(g).of === 0 ? (
                            <span className="soft">none reported</span>
                          ) : (
                            <>
                              {percent(of(g).rate, digits)}
                              <RateNote rate={of(g)} digits={digits} />
                            </>
                          ),
                        { num: true },
                      ),
                    ),
                    col.shown(
                      "Opened",
                      (g) => g.opened && g.opened.opened.rate,
                      (g) =>
                        g.opened ? (
                          <>
                            {percent(g.opened.opened.rate)}
                            <div className="soft small">
                              {percent(g.opened.expected)} expected
                              {g.opened.under > 0 && `, ${count(g.opened.under)} of ${count(g.opens.length)} under it`}
                            </div>
                          </>
                        ) : (
                          <span className="soft">can’t be told</span>
                        ),
                      { num: true },
                    ),
                    col.text("Let in", words),
                    col.text("Done", done),
                  ]}
                />
              </>
            )}
            <p className="soft small" style={{ maxWidth: "62em" }}>
              Marks: 97% accepted, 95%. A group is told to be under one only where the whole 95% interval of its
              accepted mail is: {count(v.accepted.of)} messages in all, {percent(v.accepted.rate)} accepted. Domains of
              fewer than 20 people stand together. Complaints: of mail to domains from which one came in the last 90
              days; other hosts report none, whatever their people do. Opened: of people whose opens can be known,
              against what the same mailings’ opens elsewhere and the group’s own past lead to expect; of groups with
              eight mailings before, of 40 such people each, from two days after a mailing on. What hosts said stands in{" "}
              <Link to="/upkeep/reasons">reply lines</Link>.
            </p>
          </>
        )}
      </Loaded>
    </Frame>
  );
}
