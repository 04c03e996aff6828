import { scaleLinear } from "d3-scale";
import { points } from "./format";

export type IntervalRow = {
  label: string;
  estimate: number;
  lower: number;
  upper: number;
  note: string;
  tone: "deep" | "soft" | "ochre" | "brick";
  hollow?: boolean;
};

/** Differences with their intervals: zero as an ink line, the effect too small to matter as a band. */
export function IntervalPlot({
  rows,
  band,
  caption,
  signed = points,
  unit = "points",
}: {
  rows: IntervalRow[];
  band: number;
  caption?: string;
  signed?: (v: number, digits?: number) => string;
  unit?: string;
}) {
  const reach = Math.max(band * 1.3, ...rows.flatMap((r) => [Math.abs(r.lower), Math.abs(r.upper)])) * 1.05;
  const x = scaleLinear().domain([-reach, reach]).range([250, 610]);
  const said = caption ?? `${unit}, B less A; shaded: too small to matter (${signed(band).slice(1)})`;
  // A long caption would run into the figures of the axis.
  const below = said.length > 46 ? 18 : 0;
  const height = rows.length * 30 + 38 + below;
  const floor = rows.length * 30 + 8;
  const ticks = x.ticks(7);
  return (
    <svg
      viewBox={`0 0 740 ${height}`}
      width="740"
      style={{ maxWidth: "100%", display: "block" }}
      role="img"
      aria-label={rows
        .map((r) => `${r.label}: ${signed(r.estimate)} ${unit}, ${signed(r.lower)} to ${signed(r.upper)}`)
        .join("; ")}
    >
      <rect x={x(-band)} y={4} width={x(band) - x(-band)} height={floor - 4} fill="var(--band)" />
      {ticks.map((t) => (
        <g key={t}>
          <line x1={x(t)} x2={x(t)} y1={4} y2={floor} stroke="var(--rule)" strokeWidth={0.6} />
          <text x={x(t)} y={floor + 15} fontSize={12} textAnchor="middle" className="soft">
            {t === 0 ? "0" : signed(t, Math.abs(ticks[1]! - ticks[0]!) < 0.01 ? 1 : 0)}
          </text>
        </g>
      ))}
      <line x1={x(0)} x2={x(0)} y1={4} y2={floor} stroke="var(--ink)" strokeWidth={1.2} />
      {rows.map((r, i) => (
        <g key={r.label}>
          <text x={0} y={27 + i * 30} fontSize={14}>
            {r.label}
          </text>
          <line
            x1={x(r.lower)}
            x2={x(r.upper)}
            y1={22 + i * 30}
            y2={22 + i * 30}
            stroke={`var(--${r.tone})`}
            strokeWidth={3}
          />
          <circle
            cx={x(r.estimate)}
            cy={22 + i * 30}
            r={6}
            strokeWidth={2}
            stroke={`var(--${r.tone})`}
            fill={r.hollow ? "var(--sheet)" : `var(--${r.tone})`}
          />
          <text x={740} y={27 + i * 30} fontSize={13} textAnchor="end" className="soft">
            {r.note}
          </text>
        </g>
      ))}
      <text x={0} y={floor + 15 + below} fontSize={12} className="soft">
        {said}
      </text>
    </svg>
  );
}
