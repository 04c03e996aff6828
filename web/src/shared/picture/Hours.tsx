import { scaleLinear } from "d3-scale";
import { count } from "../format";
import { Picture } from "./Picture";

const WIDE = 990;
const LEFT = 90;
const RIGHT = 970;
const ROW = 54;
const BAR = 38;

/** What happened at each of the 24 hours, a row of bars a kind, each on a scale of its own. */
export function Hours({ name, kinds }: { name: string; kinds: { name: string; hours: number[] }[] }) {
  const drawn = kinds
    .map((k) => ({ ...k, all: k.hours.reduce((a, b) => a + b, 0), most: Math.max(...k.hours) }))
    .filter((k) => k.all > 0);
  if (drawn.length === 0) return null;
  const x = scaleLinear([0, 24], [LEFT, RIGHT]);
  const hour = (h: number) => `${String(h).padStart(2, "0")}:00`;
  const floor = drawn.length * ROW;
  return (
    <Picture
      name={name}
      wide={WIDE}
      tall={floor + 20}
      says={drawn
        .map((k) => `${k.name}: ${count(k.all)}, most at ${hour(k.hours.indexOf(k.most))} (${count(k.most)})`)
        .join("; ")}
      caption={`${name}: the first of each person, by their own clock; each row on a scale of its own, its highest hour written`}
    >
      {drawn.map((k, i) => {
        const y = scaleLinear([0, k.most], [0, BAR - 12]);
        const base = i * ROW + BAR + 8;
        return (
          <g key={k.name}>
            <text x={LEFT - 12} y={base - 4} fontSize={13} textAnchor="end">
              {k.name}
            </text>
            {k.hours.map((n, h) => (
              <g key={h}>
                <title>{`${hour(h)}: ${count(n)} ${k.name}`}</title>
                <rect
                  x={x(h) + 2}
                  width={x(1) - x(0) - 4}
                  y={base - y(n)}
                  height={y(n)}
                  style={{ fill: "var(--deep)" }}
                  opacity={0.8}
                />
                {h === k.hours.indexOf(k.most) && (
                  <text x={x(h + 0.5)} y={base - y(n) - 3} fontSize={12} textAnchor="middle" className="soft">
                    {count(n)}
                  </text>
                )}
              </g>
            ))}
            <line x1={LEFT} x2={RIGHT} y1={base} y2={base} stroke="var(--ink)" />
          </g>
        );
      })}
      {[0, 6, 12, 18].map((h) => (
        <text key={h} x={x(h) + 2} y={floor + 14} fontSize={12} className="soft">
          {hour(h)}
        </text>
      ))}
    </Picture>
  );
}
