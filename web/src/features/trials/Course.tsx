import { Table, TableBody, TableCell, TableHead, TableRow } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { scaleLinear } from "d3-scale";
import { api, ok, type Schemas } from "../../api/client";
import { Arm } from "../../shared/Arm";
import { bare, count, letter, percent } from "../../shared/format";
import { Failure } from "../../shared/states";

type Course = Schemas["TrialCourse"];
type Link = Schemas["LinkByArm"];

const LEFT = 48;
const RIGHT = 700;
const DASHES = ["", "7 4", "2 3", "10 3 2 3", "4 2", "1 4"];

/** The share who had answered by each hour, on the band of past mailings. */
function Chart({ course: c }: { course: Course }) {
  const last = c.hours.at(-1) ?? 1;
  const values = [...c.lines.flatMap((l) => l.shares), ...(c.band?.high ?? [])].filter((s): s is number => s != null);
  const x = scaleLinear([0, last], [LEFT, RIGHT - 24]);
  const y = scaleLinear([0, Math.max(0.01, ...values)], [180, 12]).nice();
  const digits = (y.ticks(4)[1] ?? 1) < 0.01 ? 1 : 0;
  const at = (k: number) => x(c.hours[k]!);
  const band = c.band && [
    ...c.band.high.map((s, k) => `${at(k)},${y(s)}`),
    ...c.band.low.map((s, k) => `${at(k)},${y(s)}`).reverse(),
  ];
  const names = ["a", "b", "c", "d", "e", "f"];
  const ends = c.lines
    .map((l, i) => ({ i, k: l.shares.findLastIndex((s) => s != null) }))
    .filter((e) => e.k >= 0)
    .map((e) => ({ ...e, share: c.lines[e.i]!.shares[e.k]! }))
    .sort((p, q) => q.share - p.share);
  // Letters that would lie on each other are set apart.
  const tops: number[] = [];
  ends.forEach((e, n) => tops.push(Math.max(y(e.share), n === 0 ? 0 : tops[n - 1]! + 13)));
  return (
    <svg
      viewBox="0 0 720 216"
      width="720"
      style={{ maxWidth: "100%", display: "block" }}
      role="img"
      aria-label={ends
        .map((e) => `${c.pooled ? "All arms" : letter(e.i)}: ${percent(e.share)} by ${bareHours(c.hours[e.k]!)} h`)
        .join("; ")}
    >
      {y.ticks(4).map((t) => (
        <g key={t}>
          <line x1={LEFT} x2={RIGHT - 24} y1={y(t)} y2={y(t)} stroke="var(--rule)" strokeWidth={0.6} />
          <text x={LEFT - 6} y={y(t) + 4} fontSize={12} textAnchor="end" fill="var(--soft)">
            {percent(t, digits)}
          </text>
        </g>
      ))}
      {band && <polygon points={band.join(" ")} fill="var(--rule)" opacity={0.55} />}
      {c.lines.map((l, i) => (
        <polyline
          key={i}
          points={[`${x(0)},${y(0)}`, ...l.shares.flatMap((s, k) => (s == null ? [] : [`${at(k)},${y(s)}`]))].join(" ")}
          fill="none"
          stroke={c.pooled ? "var(--deep)" : `var(--${names[i]})`}
          strokeWidth={2.2}
          strokeDasharray={c.pooled ? "" : DASHES[i]}
        />
      ))}
      {!c.pooled &&
        ends.map((e, n) => (
          <text key={e.i} x={at(e.k) + 6} y={tops[n]! + 4} fontSize={13} fontWeight={600} fill={`var(--${names[e.i]})`}>
            {letter(e.i)}
          </text>
        ))}
      {x.ticks(8).map((t) => (
        <text key={t} x={x(t)} y={198} fontSize={12} textAnchor="middle" fill="var(--soft)">
          {t}
        </text>
      ))}
      <text x={RIGHT - 24} y={213} fontSize={12} textAnchor="end" fill="var(--soft)">
        hours from a person&apos;s handover
      </text>
    </svg>
  );
}

/** Two shares as a range, or one when they round to the same. */
function range(low: number, high: number) {
  const [a, b] = [percent(low, 0), percent(high, 0)];
  return a === b ? a : `${a} to ${b}`;
}

const bareHours = (h: number) => (h < 10 ? h.toFixed(1) : h.toFixed(0));

function Links({ links, subjects }: { links: Link[]; subjects: string[] }) {
  if (links.length === 0) return null;
  return (
    <>
      <h2>Links, arm by arm</h2>
      <Table size="small">
        <TableHead>
          <TableRow>
            <TableCell>Link</TableCell>
            {subjects.map((_, i) => (
              <TableCell key={i} className="num">
                <Arm index={i} />
              </TableCell>
            ))}
          </TableRow>
        </TableHead>
        <TableBody>
          {links.map((l) => (
            <TableRow key={l.position}>
              <TableCell>
                {l.name} <span className="soft small">{l.url}</span>
              </TableCell>
              {l.arms.map((r, i) => (
                <TableCell key={i} className="num">
                  {count(r.count)}{" "}
                  <span className="soft small">
                    {percent(r.rate)}, {bare(r.lower)} to {bare(r.upper)}
                  </span>
                </TableCell>
              ))}
            </TableRow>
          ))}
        </TableBody>
      </Table>
      <p className="soft small">
        People who followed it themselves within their window, of everyone assigned, with 95% intervals. It changes no
        verdict.
      </p>
    </>
  );
}

/** How a trial's answers come in, and where its clicks went. */
export function CourseView({ id, subjects }: { id: number; subjects: string[] }) {
  const q = useQuery({
    queryKey: ["trial", id, "course"],
    queryFn: () => ok(api.GET("/api/trials/{id}/course", { params: { path: { id } } })),
  });
  if (!q.data) return <Failure error={q.error} />;
  const { course: c, links } = q.data;
  const b = c.band;
  return (
    <>
      <h2>{c.pooled ? "How the answers come in, all arms together" : "How the answers came in"}</h2>
      {c.lines.some((l) => l.shares.some((s) => s != null)) ? (
        <Chart course={c} />
      ) : (
        <p>Nobody is far enough in their window yet: the first point is at {bareHours(c.hours[0] ?? 0)} h.</p>
      )}
      <p className="soft small" style={{ maxWidth: "50em" }}>
        {c.pooled
          ? "Share of those who are that far in their window. "
          : "An arm that is answered faster isn't answered more: only the end counts. "}
        {b
          ? `Shaded: the middle four fifths of ${count(b.mailings)} past mailings. By the window's end they had ${range(b.maturity_low, b.maturity_high)} of their 30-day answers.`
          : "No band of past mailings: too few are old enough, or what is counted comes without any mail, too."}
      </p>
      <Links links={links} subjects={subjects} />
    </>
  );
}
