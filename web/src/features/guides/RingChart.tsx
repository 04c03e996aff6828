import type { Schemas } from "../../api/client";
import { scaleLinear, scalePoint } from "d3-scale";
import { count, percent } from "../../shared/format";

type Ring = Schemas["Ring"];

/** How long ago, in words. */
export const span = (days: number) =>
  days === 730 ? "2 years" : days % 7 === 0 ? `${days / 7} ${days === 7 ? "week" : "weeks"}` : `${days} days`;

/** Rings of answers, with the border where mailing stops paying. */
export function Chart({ rings, suggestion }: { rings: Ring[]; suggestion: number | null }) {
  const label = (r: Ring, i: number) => (i === rings.length - 1 ? "longer, never" : span(r.to_days));
  const x = scalePoint(rings.map(label), [60, 720]).padding(0.5);
  // A thin ring's wide interval must not flatten the others: it runs out at the top.
  const top = Math.max(0.05, ...rings.map((r) => (r.opens.thin ? r.opens.rate : r.opens.upper) ?? 0));
  const y = scaleLinear([0, top], [220, 14]).nice();
  const edge = rings.findIndex((r) => r.to_days === suggestion);
  const at = (i: number) => x(label(rings[i]!, i))!;
  const border = edge >= 0 ? (at(edge) + at(Math.min(edge + 1, rings.length - 1))) / 2 : null;
  return (
    <svg
      viewBox="0 0 740 268"
      width="740"
      style={{ maxWidth: "100%", display: "block" }}
      role="img"
      aria-label={rings.map((r, i) => `${label(r, i)}: ${percent(r.opens.rate)} of ${count(r.people)}`).join("; ")}
    >
      {border !== null && (
        <>
          <rect x={60} y={14} width={border - 60} height={206} fill="var(--deep-wash)" opacity={0.5} />
          <text x={border - 6} y={28} fontSize={12} textAnchor="end" fill="var(--deep)">
            pays to here
          </text>
        </>
      )}
      {y.ticks(4).map((t) => (
        <g key={t}>
          <line x1={60} x2={720} y1={y(t)} y2={y(t)} stroke="var(--rule)" strokeWidth={0.6} />
          <text x={52} y={y(t) + 4} fontSize={12} textAnchor="end" className="soft">
            {(t * 100).toFixed(0)}%
          </text>
        </g>
      ))}
      <line x1={60} x2={720} y1={220} y2={220} stroke="var(--ink)" strokeWidth={1.2} />
      {rings.map((r, i) => {
        const tone = r.pays ? "var(--deep)" : "var(--brick)";
        return (
          <g key={i}>
            {r.opens.rate != null && (
              <>
                <line
                  x1={at(i)}
                  x2={at(i)}
                  y1={y(r.opens.lower!)}
                  y2={Math.max(8, y(r.opens.upper!))}
                  stroke={tone}
                  strokeWidth={3}
                />
                <circle
                  cx={at(i)}
                  cy={y(r.opens.rate)}
                  r={6}
                  stroke={tone}
                  strokeWidth={2}
                  fill={r.opens.thin ? "var(--sheet)" : tone}
                />
              </>
            )}
            <text x={at(i)} y={238} fontSize={12} textAnchor="middle">
              {label(r, i)}
            </text>
            <text x={at(i)} y={254} fontSize={12} textAnchor="middle" className="soft">
              {count(r.people)}
              {r.opens.thin && r.people > 0 ? ", thin" : ""}
            </text>
          </g>
        );
      })}
    </svg>
  );
}
