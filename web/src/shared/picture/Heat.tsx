import type { ReactNode } from "react";
import { Picture } from "./Picture";

export type HeatCell = { words: string; share: number; hollow?: boolean; says: string };

const LEFT = 190;
const TOP = 22;
const TALL = 26;

/** Rows by columns, the more the deeper; what is thin is hollow. */
export function Heat({
  name,
  rows,
  columns,
  cell,
  caption,
  wide = 990,
  every = 1,
}: {
  name: string;
  rows: string[];
  columns: string[];
  cell: (row: number, column: number) => HeatCell | null;
  caption?: ReactNode;
  wide?: number;
  /** Every so many columns are named. */
  every?: number;
}) {
  const width = Math.min(110, (wide - LEFT) / columns.length);
  const all = rows.map((_, i) => columns.map((_, j) => cell(i, j)));
  const said = rows.map(
    (r, i) => `${r}: ${all[i]!.flatMap((c, j) => (c ? [`${columns[j]} ${c.says}`] : [])).join(", ")}`,
  );
  const short = (text: string, most: number) => (text.length > most ? `${text.slice(0, most - 1)}…` : text);
  return (
    <Picture name={name} wide={wide} tall={TOP + rows.length * TALL + 4} says={said.join("; ")} caption={caption}>
      {columns.map(
        (c, j) =>
          j % every === 0 && (
            <text key={j} x={LEFT + (j + 0.5) * width} y={TOP - 8} fontSize={12} textAnchor="middle" className="soft">
              {short(c, Math.max(4, Math.floor((width * every) / 7)))}
            </text>
          ),
      )}
      {rows.map((r, i) => (
        <g key={i}>
          <text x={LEFT - 8} y={TOP + i * TALL + 17} fontSize={13} textAnchor="end">
            {short(r, 26)}
          </text>
          {all[i]!.map((c, j) => {
            if (!c) return null;
            const deep = !c.hollow && c.share > 0.65;
            return (
              <g key={j}>
                <title>{`${r}, ${columns[j]}: ${c.says}`}</title>
                <rect
                  x={LEFT + j * width + 1}
                  y={TOP + i * TALL + 1}
                  width={width - 2}
                  height={TALL - 2}
                  fill={c.hollow ? "none" : "var(--deep)"}
                  fillOpacity={0.08 + 0.84 * c.share}
                  stroke={c.hollow ? "var(--rule)" : "none"}
                />
                {c.words !== "" && (
                  <text
                    x={LEFT + (j + 0.5) * width}
                    y={TOP + i * TALL + 17}
                    fontSize={12}
                    textAnchor="middle"
                    style={{ fill: deep ? "var(--sheet)" : "var(--ink)" }}
                  >
                    {c.words}
                  </text>
                )}
              </g>
            );
          })}
        </g>
      ))}
    </Picture>
  );
}
