import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { plural } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { useMailingSlips } from "./useMailingSlips";
import { DAY } from "../../shared/time";

type Entry = Schemas["CalendarEntry"];
const WEEKS = 6;
const month = new Intl.DateTimeFormat("en-GB", { month: "long", year: "numeric", timeZone: "UTC" });
const day = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", timeZone: "UTC" });
const hour = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", timeZone: "UTC" });
const DAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

/** The Monday on or before an instant. 1970-01-01 was a Thursday. */
const monday = (ms: number) => {
  const d = Math.floor(ms / DAY);
  return (d - ((d + 3) % 7)) * DAY;
};

const WHAT: Record<string, { words: string; colour: string }> = {
  planned: { words: "goes out", colour: "var(--deep)" },
  going: { words: "going out", colour: "var(--deep)" },
  went: { words: "went out", colour: "var(--soft)" },
  pilot: { words: "pilot", colour: "var(--a)" },
  reading: { words: "reading", colour: "var(--b)" },
  rollout: { words: "rollout", colour: "var(--deep)" },
};

function Cell({ begins, entries, now }: { begins: number; entries: Entry[]; now: number }) {
  const today = now >= begins && now < begins + DAY;
  return (
    <td
      style={{
        verticalAlign: "top",
        borderTop: today ? "3px solid var(--deep)" : "1px solid var(--rule)",
        padding: "4px 6px 10px 0",
        height: 84,
        width: `${100 / 7}%`,
      }}
    >
      <div className="soft small">
        {day.format(begins)}
        {today && <b> today</b>}
      </div>
      {entries.map((e) => (
        <div key={`${e.mailing}${e.what}`} className="small" style={{ lineHeight: 1.3, marginTop: 3 }}>
          <Link to={`/mailings/${e.mailing}`}>{e.name}</Link>
          <br />
          <span style={{ color: WHAT[e.what]?.colour }}>
            {hour.format(e.at)} {WHAT[e.what]?.words ?? e.what}
            {e.paused && ", paused"}
          </span>
        </div>
      ))}
    </td>
  );
}

/** All mailings by day: what went, what goes, the trials' pilots, readings and rollouts. */
export function CalendarPage() {
  const { slips } = useMailingSlips();
  const [search, setSearch] = useSearchParams();
  const clock = useQuery(queries.clock);
  const now = clock.data?.now ?? 0;
  const from = search.get("from") ? Number(search.get("from")) : monday(now - 14 * DAY);
  const until = from + WEEKS * 7 * DAY;
  const calendar = useQuery({
    queryKey: ["calendar", from],
    queryFn: () => ok(api.GET("/api/calendar", { params: { query: { from, until } } })),
    enabled: clock.data !== undefined,
    placeholderData: keepPreviousData,
  });
  const go = (weeks: number) => setSearch({ from: String(from + weeks * 7 * DAY) }, { replace: true });
  return (
    <Frame slips={slips}>
      <Loaded query={calendar}>
        {({ entries }) => {
          const coming = entries.filter((e) => e.at > now && e.what !== "reading").length;
          return (
            <>
              <div className="crumb">
                <span>Calendar</span>
                <span>hours are UTC</span>
              </div>
              <h1>
                {month.format(from)} to {month.format(until - DAY)}
              </h1>
              <p className="finding">
                <em>{plural(coming, "sending")}</em> {coming === 1 ? "is" : "are"} to come in these six weeks.
              </p>
              <div className="filters">
                <span className="switch" role="group" aria-label="Which weeks">
                  <button onClick={() => go(-4)}>Four weeks back</button>
                  <button onClick={() => setSearch({}, { replace: true })}>Now</button>
                  <button onClick={() => go(4)}>Four weeks on</button>
                </span>
              </div>
              <table style={{ width: "100%", borderCollapse: "collapse", tableLayout: "fixed" }}>
                <thead>
                  <tr>
                    {DAYS.map((d) => (
                      <th key={d} className="soft small" style={{ textAlign: "left", fontWeight: 400 }} scope="col">
                        {d}
                      </th>
                    ))}
                  </tr>
                </thead>
                <tbody>
                  {Array.from({ length: WEEKS }, (_, w) => (
                    <tr key={w}>
                      {DAYS.map((_, d) => {
                        const begins = from + (w * 7 + d) * DAY;
                        return (
                          <Cell
                            key={d}
                            begins={begins}
                            now={now}
                            entries={entries.filter((e) => e.at >= begins && e.at < begins + DAY)}
                          />
                        );
                      })}
                    </tr>
                  ))}
                </tbody>
              </table>
              <p className="soft small">
                Other calendars can follow it at <a href="/api/calendar.ics">{location.origin}/api/calendar.ics</a>{" "}
                (iCalendar), as long as they run on this machine.
              </p>
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
