import { scaleLinear } from "d3-scale";
import type { ReactNode } from "react";
import { Picture } from "./Picture";

export type Bar = { name: string; value: number; words: string };

const WIDE = 990;
const LEFT = 230;
const RIGHT = 760;
const TALL = 26;
/** More than this are in the table only. */
const MOST = 40;

/** Amounts on one scale, what is taken back to the left of nothing. */
export function Bars({ name, bars, caption }: { name: string; bars: Bar[]; caption?: ReactNode }) {
  const drawn = bars.slice(0, MOST);
  if (drawn.length === 0) return null;
  const values = drawn.map((b) => b.value);
  const x = scaleLinear([Math.min(0, ...values), Math.max(1, ...values)], [LEFT, RIGHT]).nice(5);
  const floor = drawn.length * TALL + 4;
  const short = (text: string) => (text.length > 32 ? `${text.slice(0, 31)}…` : text);
  return (
    <Picture
      name={name}
      wide={WIDE}
      tall={floor + 4}
      says={drawn.map((b) => `${b.name}: ${b.words}`).join("; ")}
      caption={
        <>
          {caption}
          {bars.length > MOST && ` The first ${MOST} of ${bars.length} are drawn; the table has all.`}
        </>
      }
    >
      {drawn.map((b, i) => (
        <g key={i}>
          <text x={LEFT - 10} y={i * TALL + 18} fontSize={13} textAnchor="end">
            {short(b.name)}
          </text>
          <rect
            x={Math.min(x(0), x(b.value))}
            y={i * TALL + 6}
            width={Math.max(1, Math.abs(x(b.value) - x(0)))}
            height={TALL - 10}
            style={{ fill: b.value < 0 ? "var(--brick)" : "var(--deep)" }}
            opacity={0.8}
          />
          <text x={RIGHT + 14} y={i * TALL + 18} fontSize={12} className="soft">
            {b.words}
          </text>
        </g>
      ))}
      <line x1={x(0)} x2={x(0)} y1={0} y2={floor} stroke="var(--ink)" strokeWidth={1.2} />
    </Picture>
  );
}
