import { scaleLinear, scaleSqrt, scaleTime } from "d3-scale";
import { area } from "d3-shape";
import type { Schemas } from "../../api/client";
import { count, percent } from "../../shared/format";
import { Picture } from "../../shared/picture/Picture";
import { RateAxis, TimeAxis } from "../../shared/picture/axis";

export type TimePoint = {
  at: number;
  name: string;
  rate: Schemas["Rate"];
  norm?: Schemas["OwnNorm"] | null | undefined;
};

const WIDE = 990;
const LEFT = 46;
const RIGHT = 930;
const TOP = 12;
const BOTTOM = 190;

/** A rate over time: each point sized by its people, with its interval; the band is the norm of its own kind. */
export function TimePicture({ figure, points }: { figure: Schemas["FigureDefinition"]; points: TimePoint[] }) {
  const drawn = points.filter((p) => p.rate.rate != null).sort((a, b) => a.at - b.at);
  if (drawn.length === 0) return null;
  const first = drawn[0]!.at;
  const x = scaleTime([first, Math.max(first + 86_400_000, drawn.at(-1)!.at)], [LEFT + 14, RIGHT - 14]);
  // A thin one's wide interval must not flatten the others: it runs out at the top.
  const most = Math.max(
    0.001,
    ...drawn.map((p) => Math.max(p.rate.thin ? p.rate.rate! : p.rate.upper!, p.norm?.upper ?? 0)),
  );
  const y = scaleLinear([0, most * 1.06], [BOTTOM, TOP]).nice(5);
  const r = scaleSqrt([0, Math.max(...drawn.map((p) => p.rate.of))], [2.5, 8]);
  const normed = drawn.filter((p) => p.norm);
  const band = area<TimePoint>()
    .x((p) => x(p.at))
    .y0((p) => y(p.norm!.lower))
    .y1((p) => y(Math.min(p.norm!.upper, y.domain()[1]!)));
  // Names of neighbours stand above and below each other in turn.
  const outside = drawn.filter((p) => p.norm?.outside);
  const top = y.domain()[1]!;
  return (
    <Picture
      name={`${figure.name} over time`}
      wide={WIDE}
      tall={BOTTOM + 26}
      says={drawn
        .map((p) => `${p.name}: ${percent(p.rate.rate)}${p.norm?.outside ? ", outside its norm" : ""}`)
        .join("; ")}
      caption={`${figure.name}; area: messages; hollow: fewer than 100; line: 95% interval of the people${
        normed.length > 0 ? "; band: the norm of its own kind (Laney’s p′, the 20 mailings before)" : ""
      }`}
    >
      {normed.length > 1 && <path d={band(normed)!} fill="var(--band)" />}
      <RateAxis y={y} left={LEFT} right={RIGHT} />
      <TimeAxis x={x} at={BOTTOM + 18} />
      {drawn.map((p, i) => {
        const tone = p.norm?.outside ? (p.rate.rate! > p.norm.upper ? "var(--deep)" : "var(--brick)") : "var(--soft)";
        return (
          <g key={i}>
            <title>{`${p.name}: ${percent(p.rate.rate)} of ${count(p.rate.of)}`}</title>
            <line
              x1={x(p.at)}
              x2={x(p.at)}
              y1={y(p.rate.lower!)}
              y2={y(Math.min(top, p.rate.upper!))}
              stroke={tone}
              strokeWidth={1.6}
            />
            <circle
              cx={x(p.at)}
              cy={y(p.rate.rate!)}
              r={r(p.rate.of)}
              fill={p.rate.thin ? "var(--sheet)" : tone}
              stroke={tone}
              strokeWidth={1.6}
            />
          </g>
        );
      })}
      {outside.map((p, i) => (
        <text
          key={i}
          x={Math.max(LEFT + 60, Math.min(RIGHT - 60, x(p.at)))}
          y={y(p.rate.rate!) + (p.rate.rate! > p.norm!.upper ? -14 : 24)}
          fontSize={12}
          textAnchor="middle"
          style={{ fill: p.rate.rate! > p.norm!.upper ? "var(--deep)" : "var(--brick)" }}
        >
          {p.name}
        </text>
      ))}
    </Picture>
  );
}
