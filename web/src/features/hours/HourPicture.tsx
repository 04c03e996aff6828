import { scaleLinear } from "d3-scale";
import { type Schemas } from "../../api/client";
import { percent, points } from "../../shared/format";
import { hourOf } from "./hours";

type Reading = Schemas["HourTrialReading"];

const LEFT = 44;
const RIGHT = 716;
const TOP = 10;
const BOTTOM = 192;

/** A day as a line of hours: each hour drawn with its simultaneous limits, what can't be told from the best as a wash, the usual hour in ochre. */
export function HourPicture({ r, usual }: { r: Reading; usual: number }) {
  const drawn = r.hours.filter((h) => h.estimate != null);
  if (drawn.length === 0) return null;
  const most = Math.max(0.002, ...drawn.flatMap((h) => [Math.abs(h.lower!), Math.abs(h.upper!)]));
  const y = scaleLinear([-most * 1.15, most * 1.4], [BOTTOM, TOP]);
  const x = scaleLinear([-0.5, 23.5], [LEFT, RIGHT]);
  const width = x(1) - x(0);
  const matters = r.verdict === "matters";
  const has = new Set(r.hours.map((h) => h.hour));
  const rest = Array.from({ length: 24 }, (_, h) => h).filter((h) => !has.has(h));
  const wave = r.wave;
  const line =
    wave &&
    Array.from({ length: 97 }, (_, i) => i / 4)
      .filter((h) => h >= drawn[0]!.hour && h <= drawn.at(-1)!.hour)
      .map((h) => {
        const at = (hour: number) =>
          wave.cos * Math.cos((2 * Math.PI * hour) / 24) + wave.sin * Math.sin((2 * Math.PI * hour) / 24);
        const mean = drawn.reduce((sum, d) => sum + at(d.hour), 0) / drawn.length;
        return `${x(h)},${y(at(h) - mean)}`;
      })
      .join(" ");
  return (
    <svg
      viewBox="0 0 720 232"
      width="720"
      style={{ maxWidth: "100%", display: "block" }}
      role="img"
      aria-label={drawn
        .map((h) => `${hourOf(h.hour)}: ${points(h.estimate!)} points, ${points(h.lower!)} to ${points(h.upper!)}`)
        .join("; ")}
    >
      {rest.map((h) => (
        <rect key={h} x={x(h - 0.5)} y={TOP} width={width} height={BOTTOM - TOP} fill="var(--mist)" />
      ))}
      {matters &&
        r.best_set.map((h) => (
          <rect
            key={h}
            x={x(h - 0.5)}
            y={TOP}
            width={width}
            height={BOTTOM - TOP}
            fill="var(--deep-wash)"
            opacity={0.55}
          />
        ))}
      {y.ticks(5).map((t) => (
        <g key={t}>
          <line
            x1={LEFT}
            x2={RIGHT}
            y1={y(t)}
            y2={y(t)}
            stroke={t === 0 ? "var(--ink)" : "var(--rule)"}
            strokeWidth={t === 0 ? 1.1 : 0.7}
          />
          <text x={LEFT - 6} y={y(t) + 4} fontSize={12} textAnchor="end" style={{ fill: "var(--soft)" }}>
            {t === 0 ? "0" : points(t, most < 0.01 ? 1 : 0)}
          </text>
        </g>
      ))}
      {line && <polyline points={line} fill="none" stroke="var(--soft)" strokeWidth={1} strokeDasharray="3 3" />}
      {drawn.map((h) => {
        const tone = matters && h.may_be_best ? "var(--deep)" : h.hour === usual ? "var(--ochre)" : "var(--soft)";
        return (
          <g key={h.hour}>
            <line x1={x(h.hour)} x2={x(h.hour)} y1={y(h.lower!)} y2={y(h.upper!)} stroke={tone} strokeWidth={2.6} />
            <circle
              cx={x(h.hour)}
              cy={y(h.estimate!)}
              r={5.2}
              fill={h.thin ? "var(--sheet)" : tone}
              stroke={tone}
              strokeWidth={2}
            />
          </g>
        );
      })}
      {matters && (
        <text x={x(r.best_set[0]! - 0.4)} y={TOP + 12} fontSize={12} style={{ fill: "var(--deep)" }}>
          can&apos;t be told from the best
        </text>
      )}
      {has.has(usual) && !(matters && r.best_set.includes(usual)) && (
        <text x={x(usual)} y={TOP + 12} fontSize={12} textAnchor="middle" style={{ fill: "var(--ochre)" }}>
          as now
        </text>
      )}
      <text x={LEFT + 4} y={y(0) - 5} fontSize={12} style={{ fill: "var(--soft)" }}>
        mean of the hours, {percent(r.mean)}
      </text>
      {[0, 3, 6, 9, 12, 15, 18, 21].map((h) => (
        <text key={h} x={x(h)} y={208} fontSize={12} textAnchor="middle" style={{ fill: "var(--soft)" }}>
          {String(h).padStart(2, "0")}
        </text>
      ))}
      <text x={LEFT} y={227} fontSize={12} style={{ fill: "var(--soft)" }}>
        hour of each person&apos;s own day; points from the mean, limits that hold for all hours at once; dashed: the
        daily wave
      </text>
    </svg>
  );
}
