import { scaleLinear, scaleTime } from "d3-scale";
import { type Schemas } from "../../api/client";
import { count, date, plural } from "../../shared/format";
import { DAY } from "../../shared/time";
import { DataTable } from "../../shared/table/DataTable";

type Base = Schemas["BaseDay"];
type Run = Schemas["CleaningRun"];

const PARTS = [
  { key: "tombstones", name: "deleted", fill: "var(--rule)" },
  { key: "retired", name: "retired", fill: "var(--brick)" },
  { key: "sunset", name: "sunset", fill: "var(--soft)" },
  { key: "resting", name: "resting", fill: "var(--ochre)" },
  { key: "observed", name: "observed", fill: "var(--deep)" },
] as const;

const WIDE = 990;
const TALL = 150;
const LEFT = 44;
const RIGHT = 820;

/** People who aren't mailed as usual, over a year, with the runs that did it. */
export function MadeOf({ days, runs }: { days: Base[]; runs: Run[] }) {
  const last = days.at(-1)!;
  const sum = (d: Base) => PARTS.reduce((n, p) => n + d[p.key], 0);
  const all = sum(last) - last.tombstones + last.active;
  const top = Math.max(1, ...days.map(sum));
  const x = scaleTime()
    .domain([days[0]!.day * DAY, Math.max(last.day, days[0]!.day + 1) * DAY])
    .range([LEFT, RIGHT]);
  const y = scaleLinear([0, top], [TALL, 16]).nice(3);
  const band = (upto: number) => {
    const under = (d: Base) => PARTS.slice(0, upto).reduce((n, p) => n + d[p.key], 0);
    const over = (d: Base) => under(d) + d[PARTS[upto]!.key];
    const at = (d: Base, n: number) => `${x(d.day * DAY).toFixed(1)},${y(n).toFixed(1)}`;
    return [...days.map((d) => at(d, over(d))), ...[...days].reverse().map((d) => at(d, under(d)))].join(" ");
  };
  // Names stand beside their bands, and never over each other.
  const names = PARTS.reduce<{ name: string; key: (typeof PARTS)[number]["key"]; at: number }[]>((before, p, i) => {
    const under = PARTS.slice(0, i).reduce((n, q) => n + last[q.key], 0);
    const at = Math.min((before.at(-1)?.at ?? TALL + 14) - 15, y(under + last[p.key] / 2) + 4);
    return [...before, { ...p, at }];
  }, []);
  const marks = runs.filter((r) => r.applied_at != null && r.applied_at >= days[0]!.day * DAY);
  return (
    <>
      <p className="soft" style={{ margin: "14px 0 0" }}>
        People not mailed as usual, of {count(all)}; the other {count(last.active)} are active
        {last.tombstones > 0 && ", and deleted addresses, which are nobody any more"}
      </p>
      <svg
        viewBox={`0 0 ${WIDE} ${TALL + 24}`}
        width={WIDE}
        style={{ maxWidth: "100%", display: "block" }}
        role="img"
        aria-label={`Now: ${PARTS.map((p) => `${p.name} ${last[p.key]}`).join(", ")}. The table has the days before.`}
      >
        {y.ticks(3).map((n) => (
          <text key={n} x={LEFT - 8} y={y(n) + 4} fontSize={12} textAnchor="end" className="soft">
            {count(n)}
          </text>
        ))}
        {PARTS.map((p, i) => (
          <polygon key={p.key} points={band(i)} fill={p.fill} opacity={0.75} />
        ))}
        {x.ticks(8).map((t) => (
          <text key={+t} x={x(t)} y={TALL + 18} fontSize={12} textAnchor="middle" className="soft">
            {t.toLocaleDateString("en-GB", { month: "short", timeZone: "UTC" })}
          </text>
        ))}
        {marks.map((r, i) => (
          <g key={r.id}>
            <line x1={x(r.applied_at!)} x2={x(r.applied_at!)} y1={4} y2={TALL} className="runs-mark" />
            <text x={x(r.applied_at!) - 5} y={12 + (i % 3) * 14} fontSize={12} textAnchor="end">
              {r.kind === "policy" ? `policy of ${date(r.applied_at)}` : `run of ${date(r.applied_at)}`}
            </text>
          </g>
        ))}
        {names
          .filter((p) => last[p.key] > 0)
          .map((p) => (
            <text key={p.key} x={RIGHT + 10} y={p.at} fontSize={13}>
              {p.name} {count(last[p.key])}
            </text>
          ))}
      </svg>
      <details>
        <summary>The same as a table</summary>
        <DataTable
          name="What the base was made of"
          rows={[...days].reverse()}
          id={(d) => d.day}
          dense
          columns={(col) => [
            col.day("Day", (d) => d.day * DAY),
            col.number("Active", (d) => d.active),
            col.number("Observed", (d) => d.observed),
            col.number("Resting", (d) => d.resting),
            col.number("Sunset", (d) => d.sunset),
            col.number("Retired", (d) => d.retired),
            col.number("Deleted", (d) => d.tombstones),
          ]}
        />
        <p className="soft small">
          As of the first hours of each day by UTC; {plural(days.length, "day")} of the last year are drawn.
        </p>
      </details>
    </>
  );
}
