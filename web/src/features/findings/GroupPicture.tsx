import { scaleLinear } from "d3-scale";
import type { Schemas } from "../../api/client";
import { count, percent, plural } from "../../shared/format";
import { Picture } from "../../shared/picture/Picture";

type Row = Schemas["FindingsGroup"];

const WIDE = 990;
const LEFT = 210;
const RIGHT = 760;
const TALL = 28;
/** More groups than this are in the table only. */
const MOST = 40;

/** A rate of each group on one scale: thin, the people's interval; thick, the one with the mailing as its unit. */
export function GroupPicture({ rows, figure }: { rows: Row[]; figure: Schemas["FigureDefinition"] }) {
  const all = rows.filter((r) => r.figures[figure.key]?.rate != null);
  const drawn = all.slice(0, MOST);
  if (drawn.length === 0) return null;
  const rate = (r: Row) => r.figures[figure.key]!;
  const most = Math.max(
    0.001,
    ...drawn.map((r) => (rate(r).thin ? rate(r).rate! : Math.max(rate(r).upper!, r.over_mailings?.upper ?? 0))),
  );
  const x = scaleLinear([0, most * 1.04], [LEFT, RIGHT]).nice(5);
  const floor = drawn.length * TALL + 6;
  const ticks = x.ticks(6);
  const digits = ticks.length > 1 && ticks[1]! < 0.01 ? (ticks[1]! < 0.001 ? 2 : 1) : 0;
  const end = x.domain()[1]!;
  const short = (text: string) => (text.length > 30 ? `${text.slice(0, 29)}…` : text);
  return (
    <Picture
      name={`${figure.name} by group`}
      wide={WIDE}
      tall={floor + 22}
      says={drawn
        .map((r) => `${r.name}: ${percent(rate(r).rate)} of ${count(rate(r).of)}, ${plural(r.mailings, "mailing")}`)
        .join("; ")}
      caption={`${figure.name}; thin line: 95% among people; thick: with the mailing as the unit, of six or more; hollow: fewer than 100 messages or six mailings${
        all.length > MOST ? `; the first ${MOST} of ${count(all.length)} groups are drawn` : ""
      }`}
    >
      {ticks.map((t) => (
        <g key={t}>
          <line
            x1={x(t)}
            x2={x(t)}
            y1={0}
            y2={floor}
            stroke={t === 0 ? "var(--ink)" : "var(--rule)"}
            strokeWidth={t === 0 ? 1.2 : 0.7}
          />
          <text x={x(t)} y={floor + 15} fontSize={12} textAnchor="middle" className="soft">
            {percent(t, digits)}
          </text>
        </g>
      ))}
      {drawn.map((r, i) => {
        const better = r.best?.told === "better";
        const tone = better ? "var(--deep)" : "var(--soft)";
        const at = i * TALL + 18;
        const hollow = rate(r).thin || r.mailings < 6;
        return (
          <g key={r.key}>
            <text x={LEFT - 10} y={at + 4} fontSize={13} textAnchor="end" fontWeight={better ? 600 : 400}>
              {short(r.name)}
            </text>
            <line
              x1={x(rate(r).lower!)}
              x2={x(Math.min(end, rate(r).upper!))}
              y1={at}
              y2={at}
              stroke={tone}
              strokeWidth={1.4}
            />
            {r.over_mailings && (
              <line
                x1={x(r.over_mailings.lower)}
                x2={x(Math.min(end, r.over_mailings.upper))}
                y1={at}
                y2={at}
                stroke={tone}
                strokeWidth={4}
                opacity={0.35}
              />
            )}
            <circle
              cx={x(rate(r).rate!)}
              cy={at}
              r={5.5}
              fill={hollow ? "var(--sheet)" : tone}
              stroke={tone}
              strokeWidth={2}
            />
            <text x={RIGHT + 14} y={at + 4} fontSize={12} className="soft">
              {count(rate(r).of)} messages, {plural(r.mailings, "mailing")}
            </text>
          </g>
        );
      })}
    </Picture>
  );
}
