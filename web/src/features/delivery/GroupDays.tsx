import { scaleLinear } from "d3-scale";
import type { Schemas } from "../../api/client";
import { count, date, percent, plural } from "../../shared/format";
import { Picture } from "../../shared/picture/Picture";
import { DAY } from "../../shared/time";

type View = Schemas["DeliveryView"];

const WIDE = 990;
const LEFT = 230;
const RIGHT = 760;
const TALL = 34;
/** More are in the table only. */
const MOST = 14;
/** A day of fewer messages tells little, and is drawn pale. */
const FEW = 100;
/** A day of more complaints than this is marked. */
const COMPLAINED = 0.001;
/** Shares over this are drawn as tall as it. */
const HIGH = 0.2;

/** A group's name beside its row. */
export const short = (name: string) => (name.length > 32 ? `${name.slice(0, 31)}…` : name);

/** A row a group, its days as small bars of what was refused: because of us, or for the address's reasons. */
export function GroupDays({ v }: { v: View }) {
  const drawn = v.groups.slice(0, MOST);
  const days = v.to_day - v.from_day + 1;
  const x = scaleLinear([0, days], [LEFT, RIGHT]);
  const y = scaleLinear([0, HIGH], [0, TALL - 10]).clamp(true);
  const wide = Math.max(3, (RIGHT - LEFT) / days - 4);
  const floor = drawn.length * TALL;
  return (
    <Picture
      name="Refused by day"
      wide={WIDE}
      tall={floor + 24}
      says={drawn
        .map(
          (g) =>
            `${g.name}: ${percent(g.accepted.rate)} accepted, ${percent(g.blocked.rate, 2)} blocked of ${count(g.accepted.of)}`,
        )
        .join("; ")}
      caption={`Of each day’s mail: brick refused because of us (blocked), ochre for the address’s reasons (bounced), hollow put off at the first try; a ring: complaints, two or more, over 0.1%; dotted: 5%; what is over 20% is drawn as 20%; a deep triangle: a mailing was opened far less here than expected; pale: fewer than ${FEW} messages${
        v.groups.length > MOST ? `; the first ${MOST} of ${count(v.groups.length)} groups are drawn` : ""
      }`}
    >
      {drawn.map((g, i) => {
        const base = i * TALL + TALL - 6;
        return (
          <g key={g.name}>
            <text x={LEFT - 12} y={base - 6} fontSize={13} textAnchor="end">
              {short(g.name)}
            </text>
            <line
              x1={LEFT}
              x2={RIGHT}
              y1={base - y(0.05)}
              y2={base - y(0.05)}
              stroke="var(--rule)"
              strokeDasharray="1 4"
            />
            <line x1={LEFT} x2={RIGHT} y1={base} y2={base} stroke="var(--rule)" />
            {g.days.map((d) => {
              const [blocked, bounced] = [
                y(d.blocked / Math.max(1, d.of)),
                y((d.blocked + d.bounced) / Math.max(1, d.of)),
              ];
              const at = x(d.day - v.from_day) + 2;
              return (
                <g key={d.day} opacity={d.of < FEW ? 0.35 : 1}>
                  <title>{`${date(d.day * DAY)}: ${count(d.blocked)} blocked, ${count(d.bounced)} bounced, ${count(d.put_off)} put off of ${plural(d.of, "message")}; ${plural(d.complaints, "complaint")}`}</title>
                  {d.put_off > 0 && (
                    <rect
                      x={at + 0.5}
                      width={wide - 1}
                      y={base - y(d.put_off / Math.max(1, d.of))}
                      height={y(d.put_off / Math.max(1, d.of))}
                      fill="none"
                      stroke="var(--soft)"
                    />
                  )}
                  {d.complaints > 1 && d.complaints > COMPLAINED * d.of && (
                    <circle
                      cx={at + wide / 2}
                      cy={base - TALL + 12}
                      r={3}
                      fill="none"
                      stroke="var(--brick)"
                      strokeWidth={1.5}
                    />
                  )}
                  <rect x={at} width={wide} y={base - bounced} height={bounced} style={{ fill: "var(--ochre)" }} />
                  <rect x={at} width={wide} y={base - blocked} height={blocked} style={{ fill: "var(--brick)" }} />
                  <rect x={at} width={wide} y={base - 1} height={1} style={{ fill: "var(--soft)" }} />
                </g>
              );
            })}
            {g.opens
              .filter((o) => o.under)
              .map((o) => (
                <path
                  key={o.mailing_id}
                  transform={`translate(${x(Math.floor(o.at / DAY) - v.from_day) + 2 + wide / 2} ${base - TALL + 13})`}
                  d="M -5 -5 L 5 -5 L 0 4 Z"
                  style={{ fill: "var(--deep)" }}
                >
                  <title>{`${o.mailing}: ${percent(o.opened.rate)} of ${count(o.opened.of)} opened, ${percent(o.expected)} were expected, ${percent(o.lower)} at the least`}</title>
                </path>
              ))}
            <text x={RIGHT + 14} y={base - 6} fontSize={13}>
              {percent(g.accepted.rate)}
            </text>
            <text x={RIGHT + 74} y={base - 6} fontSize={12} className="soft">
              {words(g)}
            </text>
          </g>
        );
      })}
      {[0, 7, 14, 21, days - 1].map((d) => (
        <text key={d} x={x(d)} y={floor + 16} fontSize={12} className="soft">
          {date((v.from_day + d) * DAY).replace(/ \d{4}$/, "")}
        </text>
      ))}
    </Picture>
  );
}

/** How a group lets us in, in a word. */
export function words(g: Schemas["DeliveryGroup"]) {
  if (g.pause) return "paused";
  if (g.held_back) return "held back";
  if (g.let_in !== "as_ever" && g.let_in !== "few")
    return g.about === "addresses" ? "many bounce" : g.let_in === "little" ? "blocks much" : "blocks some";
  return g.let_in === "few" ? "too few to tell" : "as ever";
}
