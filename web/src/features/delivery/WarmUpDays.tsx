import { scaleLinear } from "d3-scale";
import type { Schemas } from "../../api/client";
import { count, date, plural } from "../../shared/format";
import { Picture } from "../../shared/picture/Picture";
import { DAY } from "../../shared/time";
import { short } from "./GroupDays";

type WarmUp = Schemas["WarmUpView"];

const WIDE = 990;
const LEFT = 230;
const RIGHT = 760;
const TALL = 44;
/** More are in the table only. */
const MOST = 10;
/** Days that are drawn at least. */
const LEAST_DAYS = 14;

/** A row a group: what went on each day under that day's ceiling, and what of it was blocked or put off. */
export function WarmUpDays({ w, today }: { w: WarmUp; today: number }) {
  const drawn = w.groups.filter((g) => g.today.ceiling != null || g.days.some((d) => d.ceiling != null)).slice(0, MOST);
  const first = Math.floor(w.began_at / DAY);
  const days = Math.max(LEAST_DAYS, today - first + 1);
  const x = scaleLinear([0, days], [LEFT, RIGHT]);
  const wide = Math.max(3, (RIGHT - LEFT) / days - 6);
  const floor = drawn.length * TALL;
  if (drawn.length === 0) return null;
  return (
    <Picture
      name="Gone by day, under the ceiling"
      wide={WIDE}
      tall={floor + 24}
      says={drawn
        .map((g) => `${g.name}: ${count(g.today.handed)} of ${count(g.today.ceiling ?? g.usual)} today`)
        .join("; ")}
      caption="Each group’s messages by day, on a scale of its own; the line over a day is its ceiling; brick: blocked; ochre: put off or bounced; hollow: room that is left today"
    >
      {drawn.map((g, i) => {
        const base = i * TALL + TALL - 8;
        const all = [...g.days.filter((d) => d.day !== g.today.day), g.today].filter((d) => d.day >= first);
        const y = scaleLinear([0, Math.max(1, ...all.map((d) => Math.max(d.ceiling ?? 0, d.handed)))], [0, TALL - 14]);
        return (
          <g key={g.name}>
            <text x={LEFT - 12} y={base - 6} fontSize={13} textAnchor="end">
              {short(g.name)}
            </text>
            <line x1={LEFT} x2={RIGHT} y1={base} y2={base} stroke="var(--rule)" />
            {all.map((d) => {
              const at = x(d.day - first) + 3;
              const [blocked, off] = [y(d.blocked), y(d.blocked + d.deferred + d.failed)];
              return (
                <g key={d.day}>
                  <title>{`${date(d.day * DAY)}: ${plural(d.handed, "message")} of ${d.ceiling == null ? "no ceiling" : count(d.ceiling)}; ${count(d.blocked)} blocked, ${count(d.deferred)} put off, ${count(d.failed)} bounced, ${count(d.complained)} complained`}</title>
                  {d.day === today && d.ceiling != null && (
                    <rect
                      x={at + 0.5}
                      width={wide - 1}
                      y={base - y(d.ceiling)}
                      height={y(d.ceiling)}
                      fill="none"
                      stroke="var(--rule)"
                    />
                  )}
                  <rect
                    x={at}
                    width={wide}
                    y={base - y(d.handed)}
                    height={y(d.handed)}
                    style={{ fill: "var(--deep)" }}
                  />
                  <rect x={at} width={wide} y={base - off} height={off} style={{ fill: "var(--ochre)" }} />
                  <rect x={at} width={wide} y={base - blocked} height={blocked} style={{ fill: "var(--brick)" }} />
                  {d.ceiling != null && (
                    <line
                      x1={at - 2}
                      x2={at + wide + 2}
                      y1={base - y(d.ceiling) - 1}
                      y2={base - y(d.ceiling) - 1}
                      stroke="var(--ink)"
                      strokeWidth={1.5}
                    />
                  )}
                </g>
              );
            })}
            <text x={RIGHT + 14} y={base - 6} fontSize={13}>
              {count(g.today.handed)}
              {g.today.ceiling != null && ` of ${count(g.today.ceiling)}`}
            </text>
            <text x={RIGHT + 104} y={base - 6} fontSize={12} className="soft">
              {g.waiting > 0 ? `${count(g.waiting)} wait` : "nobody waits"}
            </text>
          </g>
        );
      })}
      {Array.from({ length: Math.ceil(days / 7) }, (_, k) => k * 7).map((d) => (
        <text key={d} x={x(d)} y={floor + 16} fontSize={12} className="soft">
          {date((first + d) * DAY).replace(/ \d{4}$/, "")}
        </text>
      ))}
    </Picture>
  );
}
