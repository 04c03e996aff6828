import { Button, MenuItem, TextField } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { queries } from "../../api/queries";
import { instant, plural } from "../../shared/format";
import { BestHours } from "../hours/BestHours";
import { LearnedOwnHours } from "../hours/LearnedOwnHours";
import type { Draft, Schedule } from "./draft";
import { useAudience } from "./useAudience";
import { DayPick, MinutePick, MomentPick } from "../../shared/Moment";
import { DAY, HOUR } from "../../shared/time";

export type How = "now" | "at" | "local" | "best" | "own";

/** How a schedule goes out, as one of the choices. */
export const howOf = (s: Schedule | null | undefined): How =>
  s?.own_hour ? "own" : s?.best_hour ? "best" : s?.local ? "local" : "now";
type Passed = NonNullable<NonNullable<Schedule["local"]>["passed"]>;

/** Does everyone get it at an hour of their own day? */
const atTheirHour = (how: How) => how === "local" || how === "best" || how === "own";

/** When it goes out: at once, at an instant, or at an hour of everyone's own day; over how long; how fast. */
export function WhenSection({
  d,
  setD,
  how,
  setHow,
  at,
  setAt,
  mailing,
}: {
  d: Draft;
  setD: (d: Draft) => void;
  how: How;
  setHow: (h: How) => void;
  at: number | null;
  setAt: (at: number | null) => void;
  mailing: number | null;
}) {
  const clock = useQuery(queries.clock);
  const learned = useQuery(queries.learnedHours).data ?? [];
  const own = useQuery(queries.learnedOwnHours).data ?? [];
  const now = clock.data?.now ?? 0;
  const s: Schedule = d.schedule ?? { local: null, spread_minutes: 0, rates: [] };
  const set = (change: Partial<Schedule>) => setD({ ...d, schedule: { ...s, ...change } });
  const rates = s.rates ?? [];
  const local = s.local ?? null;
  const look = useAudience(d, at, mailing);
  const l = look.data;
  const choose = (h: How) => {
    setHow(h);
    const tomorrow = Math.floor(now / DAY) + 1;
    const to = local ?? { day: tomorrow + 1, minute: 540, passed: "tomorrow" as const };
    set({ local: atTheirHour(h) ? to : null, best_hour: h === "best", own_hour: h === "own" });
    setAt(h === "at" ? (at ?? tomorrow * DAY + 9 * HOUR) : null);
  };
  return (
    <div className="fields">
      <div>
        <span className="switch" role="group" aria-label="When it goes out">
          {(
            [
              ["now", "Now"],
              ["at", "At an instant"],
              ["local", "At everyone's own hour"],
              ["best", "At the best hour"],
              ["own", "At hours learned of each person"],
            ] as const
          ).map(([h, words]) => (
            <button
              key={h}
              aria-pressed={how === h}
              disabled={how !== h && ((h === "best" && learned.length === 0) || (h === "own" && own.length === 0))}
              onClick={() => choose(h)}
            >
              {words}
            </button>
          ))}
        </span>
        {how !== "best" && learned.length === 0 && (
          <span className="soft small">
            {" "}
            No best hour is known: <Link to="/trials/hours/new">an hour trial</Link> finds it.
          </span>
        )}
      </div>
      {how === "best" && <BestHours learned={learned} />}
      {how === "own" && <LearnedOwnHours learned={own} />}
      {how === "at" && (
        <div style={{ maxWidth: 260 }}>
          <MomentPick label="Goes out (UTC)" value={at} onChange={setAt} />
        </div>
      )}
      {atTheirHour(how) && local && (
        <div className="two">
          <div style={{ display: "flex", gap: 10 }}>
            <DayPick
              label="On this date"
              value={local.day}
              onChange={(day) => day !== null && set({ local: { ...local, day } })}
            />
            <MinutePick
              label={how !== "local" ? "All others at, by their own clock" : "At, by their own clock"}
              value={local.minute}
              onChange={(minute) => minute !== null && set({ local: { ...local, minute } })}
            />
          </div>
          <TextField
            select
            label="For whom that hour has passed"
            value={local.passed ?? "tomorrow"}
            onChange={(e) => set({ local: { ...local, passed: e.target.value as Passed } })}
          >
            <MenuItem value="tomorrow">the same hour of the next day</MenuItem>
            <MenuItem value="now">at once</MenuItem>
            <MenuItem value="not">not at all</MenuItem>
          </TextField>
        </div>
      )}
      <div className="two">
        <TextField
          label="Spread over, minutes"
          value={s.spread_minutes ?? 0}
          helperText="Everyone at a minute of their own within that time: hosts like it better than all at once"
          slotProps={{ htmlInput: { inputMode: "numeric" } }}
          onChange={(e) => set({ spread_minutes: Math.min(1440, Math.floor(Number(e.target.value) || 0)) })}
        />
      </div>
      {d.channel !== "text" && (
        <div>
          {rates.map((r, i) => (
            <div key={i} style={{ display: "flex", gap: 10, marginBottom: 8, maxWidth: 560 }}>
              <TextField
                label="Mail domain"
                value={r.domain ?? ""}
                placeholder="every other"
                slotProps={{ inputLabel: { shrink: true } }}
                onChange={(e) => set({ rates: rates.map((x, j) => (j === i ? { ...x, domain: e.target.value } : x)) })}
              />
              <TextField
                label="At most, an hour"
                value={r.per_hour}
                slotProps={{ htmlInput: { inputMode: "numeric" } }}
                onChange={(e) =>
                  set({
                    rates: rates.map((x, j) =>
                      j === i ? { ...x, per_hour: Math.floor(Number(e.target.value) || 0) } : x,
                    ),
                  })
                }
              />
              <Button variant="outlined" onClick={() => set({ rates: rates.filter((_, j) => j !== i) })}>
                Remove
              </Button>
            </div>
          ))}
          <button className="plain" onClick={() => set({ rates: [...rates, { domain: "", per_hour: 2000 }] })}>
            Limit how many a mail domain gets in an hour
          </button>
        </div>
      )}
      {look.isError && <p className="note bad">{look.error.message}</p>}
      {l && (
        <p className="finding" data-testid="span">
          {l.last_at > l.first_at ? (
            <>
              {plural(l.people, "person", "people")}, from <em>{instant(l.first_at)}</em> to{" "}
              <em>{instant(l.last_at)}</em> UTC.
            </>
          ) : (
            <>
              {plural(l.people, "person", "people")}, at <em>{instant(l.first_at)}</em> UTC.
            </>
          )}
        </p>
      )}
      {l && l.without_zone > 0 && how === "local" && (
        <p className="soft">
          {plural(l.without_zone, "person's clock isn't", "people's clocks aren't")} known: they get it by the
          letterhead's.
        </p>
      )}
    </div>
  );
}
