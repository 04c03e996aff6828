import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { queryOptions, useQuery } from "@tanstack/react-query";
import { scaleLinear } from "d3-scale";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { AsOf } from "../../shared/AsOf";
import { bare, count, percent } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { useClearanceSlips } from "./useClearanceSlips";

const asked = queryOptions({ queryKey: ["cap-guide"], queryFn: () => ok(api.GET("/api/cap-guide")) });

type Band = Schemas["Band"];
type Rate = Schemas["Rate"];
const named = (b: Band) => (b.to === b.from ? `${b.from}` : b.to ? `${b.from} to ${b.to}` : `${b.from} or more`);

/** One kind of answer, a line with its interval for each band. */
function Column({ bands, title, of, tone }: { bands: Band[]; title: string; of: (b: Band) => Rate; tone: string }) {
  const most = Math.max(0.001, ...bands.map((b) => of(b).upper ?? 0));
  const x = scaleLinear([0, most], [4, 150]);
  return (
    <g>
      <text x={4} y={14} fontSize={13} fontWeight={600}>
        {title}
      </text>
      <line x1={4} x2={4} y1={22} y2={26 + bands.length * 26} stroke="var(--ink)" strokeWidth={1.2} />
      {bands.map((b, i) => {
        const r = of(b);
        const y = 40 + i * 26;
        return (
          <g key={b.from}>
            <line x1={x(r.lower ?? 0)} x2={x(r.upper ?? 0)} y1={y} y2={y} stroke={tone} strokeWidth={3} />
            <circle
              cx={x(r.rate ?? 0)}
              cy={y}
              r={5}
              stroke={tone}
              strokeWidth={2}
              style={{ fill: r.thin ? "var(--sheet)" : tone }}
            />
          </g>
        );
      })}
      <text x={150} y={44 + bands.length * 26} fontSize={12} textAnchor="end" className="soft">
        {percent(most)}
      </text>
    </g>
  );
}

const KINDS: { title: string; of: (b: Band) => Rate; tone: string }[] = [
  { title: "Answered", of: (b) => b.answered, tone: "var(--deep)" },
  { title: "Left the topic", of: (b) => b.left_topic, tone: "var(--ochre)" },
  { title: "Withdrew", of: (b) => b.withdrew, tone: "var(--brick)" },
  { title: "Complained", of: (b) => b.complained, tone: "var(--brick)" },
];

/** What amounts of mail went with: to choose a cap by, and no experiment. */
export function CapGuidePage() {
  const { slips } = useClearanceSlips();
  const guide = useQuery(asked);
  return (
    <Frame slips={slips}>
      <Loaded query={guide}>
        {(g) => (
          <>
            <div className="crumb">
              <span>Cap guide</span>
              <span>one message each of {count(g.people)} people, drawn from the last 180 days</span>
            </div>
            <h1>How people take the amount of mail</h1>
            <AsOf of="/api/cap-guide" />
            <p className="finding">{g.finding}</p>
            <p className="note">
              Not an experiment: people who get more mail differ in other ways too. It shows where to look, and doesn't
              prove that the mail did it.
            </p>
            {g.bands.length > 0 && (
              <svg
                viewBox={`0 0 740 ${56 + g.bands.length * 26}`}
                width="740"
                style={{ maxWidth: "100%", display: "block" }}
                role="img"
                aria-label={g.bands
                  .map((b) => `${named(b)}: ${KINDS.map((k) => `${percent(k.of(b).rate, 2)} ${k.title}`).join(", ")}`)
                  .join("; ")}
              >
                {g.bands.map((b, i) => (
                  <text key={b.from} x={0} y={44 + i * 26} fontSize={13}>
                    {named(b)}
                  </text>
                ))}
                {KINDS.map((k, i) => (
                  <g key={k.title} transform={`translate(${88 + i * 164} 0)`}>
                    <Column bands={g.bands} {...k} />
                  </g>
                ))}
              </svg>
            )}
            {g.bands.length > 0 && (
              <Table>
                <TableHead>
                  <TableRow>
                    <TableCell>Messages in 28 days</TableCell>
                    <TableCell className="num">People</TableCell>
                    {KINDS.map((k) => (
                      <TableCell key={k.title} className="num">
                        {k.title}, 95%
                      </TableCell>
                    ))}
                  </TableRow>
                </TableHead>
                <TableBody>
                  {g.bands.map((b) => (
                    <TableRow key={b.from}>
                      <TableCell>{named(b)}</TableCell>
                      <TableCell className="num">{count(b.answered.of)}</TableCell>
                      {KINDS.map((k) => {
                        const r = k.of(b);
                        return (
                          <TableCell key={k.title} className="num">
                            {percent(r.rate, 2)}{" "}
                            <span className="soft">
                              {bare(r.lower, 2)} to {bare(r.upper, 2)}
                            </span>
                          </TableCell>
                        );
                      })}
                    </TableRow>
                  ))}
                </TableBody>
              </Table>
            )}
            <p className="soft small">
              Messages in the 28 days up to the drawn one, that one included. Bands have at least 100 people. Answered:
              a human open, click or reply. <Link to="/clearance/rules">The caps</Link>
            </p>
          </>
        )}
      </Loaded>
    </Frame>
  );
}
