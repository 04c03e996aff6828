import type { ScaleLinear, ScaleTime } from "d3-scale";
import { percent } from "../format";

/** Rates at the left, a thin line each; the lowest one is the ground. */
export function RateAxis({
  y,
  left,
  right,
  ticks = 5,
}: {
  y: ScaleLinear<number, number>;
  left: number;
  right: number;
  ticks?: number;
}) {
  const all = y.ticks(ticks);
  const step = all.length > 1 ? all[1]! - all[0]! : 1;
  return (
    <>
      {all.map((t) => (
        <g key={t}>
          <line
            x1={left}
            x2={right}
            y1={y(t)}
            y2={y(t)}
            stroke={t === 0 ? "var(--ink)" : "var(--rule)"}
            strokeWidth={t === 0 ? 1.2 : 0.7}
          />
          <text x={left - 6} y={y(t) + 4} fontSize={12} textAnchor="end" className="soft">
            {percent(t, step < 0.001 ? 2 : step < 0.01 ? 1 : 0)}
          </text>
        </g>
      ))}
    </>
  );
}

/** Months, or days where there are few, below. */
export function TimeAxis({ x, at }: { x: ScaleTime<number, number>; at: number }) {
  const [from, to] = x.domain() as [Date, Date];
  const days = (+to - +from) / 86_400_000;
  const written: Intl.DateTimeFormatOptions =
    days > 1_000
      ? { month: "short", year: "2-digit" }
      : days > 70
        ? { month: "short" }
        : { day: "numeric", month: "short" };
  return (
    <>
      {x.ticks(days > 70 ? 12 : 8).map((t) => (
        <text key={+t} x={x(t)} y={at} fontSize={12} textAnchor="middle" className="soft">
          {t.toLocaleDateString("en-GB", { ...written, timeZone: "UTC" })}
        </text>
      ))}
    </>
  );
}
