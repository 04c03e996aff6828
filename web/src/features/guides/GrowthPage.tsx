import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { scaleBand, scaleLinear } from "d3-scale";
import { useSearchParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { AsOf } from "../../shared/AsOf";
import { count, plural } from "../../shared/format";
import { DataTable } from "../../shared/table/DataTable";
import { Loaded } from "../../shared/states";
import { useContactSlips } from "../contacts/useContactSlips";

type Month = Schemas["Month"];

/** How lists grow: joined above the line, left and bounced below it. */
export function GrowthPage() {
  const slips = useContactSlips();
  const [params, setParams] = useSearchParams();
  const lists = params.get("lists") ?? "";
  const chosen = lists.split(",").filter(Boolean).map(Number);
  const all = useQuery(queries.lists);
  const growth = useQuery({
    queryKey: ["growth", lists],
    queryFn: () => ok(api.GET("/api/growth", { params: { query: { lists } } })),
    placeholderData: keepPreviousData,
  });
  const choose = (id: number, on: boolean) => {
    const next = on ? [...chosen, id] : chosen.filter((x) => x !== id);
    setParams(next.length ? { lists: next.join(",") } : {}, { replace: true });
  };
  return (
    <Frame slips={slips}>
      <Loaded query={growth}>
        {(months) => {
          const year = months.slice(-12);
          const sum = (f: (m: Month) => number) => year.reduce((n, m) => n + f(m), 0);
          const last = months.at(-1);
          return (
            <>
              <div className="crumb">
                <span>Contacts</span>
                <span>by month, UTC</span>
              </div>
              <h1>How the base grows</h1>
              <AsOf of="/api/growth" />
              <p className="finding">
                {last ? (
                  <>
                    <em>{count(last.reachable)}</em> of all who joined remain; in {plural(year.length, "month")}{" "}
                    {count(sum((m) => m.joined))} joined, {count(sum((m) => m.left))} left and{" "}
                    {count(sum((m) => m.bounced))} addresses were retired.
                  </>
                ) : (
                  "Nobody has joined yet."
                )}
              </p>
              <div className="filters">
                {chosen.length === 0 ? "Everyone. Only those on: " : "On the lists: "}
                {all.data?.map((l) => (
                  <label key={l.id} style={{ marginRight: 12 }}>
                    <input
                      type="checkbox"
                      checked={chosen.includes(l.id)}
                      onChange={(e) => choose(l.id, e.target.checked)}
                    />{" "}
                    {l.name}
                  </label>
                ))}
              </div>
              {year.length > 0 && <Chart months={year} />}
              {months.length > 0 && (
                <DataTable
                  name="Growth by month"
                  rows={[...months].reverse()}
                  id={(m) => m.month}
                  columns={(col) => [
                    col.text("Month", (m) => m.month),
                    col.number("Joined", (m) => m.joined),
                    col.number("Left", (m) => m.left),
                    col.number("Bounced", (m) => m.bounced),
                    col.shown(
                      "Net",
                      (m) => m.net,
                      (m) => (
                        <>
                          {m.net < 0 ? "−" : "+"}
                          {count(Math.abs(m.net))}
                        </>
                      ),
                      { num: true, tone: (m) => (m.net < 0 ? "bad" : undefined) },
                    ),
                    col.number("Remain", (m) => m.reachable),
                  ]}
                />
              )}
              <p className="soft small">
                Left: withdrew from everything or complained. Bounced: the address was retired. Each person counts once
                in each, in the month of the first time. Bars above and below the line are on one scale.
              </p>
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}

function Chart({ months }: { months: Month[] }) {
  const x = scaleBand(
    months.map((m) => m.month),
    [60, 720],
  ).padding(0.3);
  const up = Math.max(1, ...months.map((m) => m.joined));
  const down = Math.max(1, ...months.map((m) => m.left + m.bounced));
  // One scale for both, so that a bar below is as much as one above; whatever happened shows as a line at least.
  const y = scaleLinear([-down, up], [200, 14]);
  const tall = (n: number) => (n > 0 ? Math.max(1, y(0) - y(n)) : 0);
  return (
    <svg
      viewBox="0 0 740 224"
      width="740"
      style={{ maxWidth: "100%", display: "block" }}
      role="img"
      aria-label={months.map((m) => `${m.month}: ${m.joined} joined, ${m.left} left, ${m.bounced} bounced`).join("; ")}
    >
      <text x={52} y={y(up) + 8} fontSize={12} textAnchor="end" className="soft">
        {count(up)}
      </text>
      <text x={52} y={Math.max(y(-down) + 2, y(0) + 14)} fontSize={12} textAnchor="end" className="soft">
        −{count(down)}
      </text>
      {months.map((m) => (
        <g key={m.month}>
          <rect
            x={x(m.month)}
            width={x.bandwidth()}
            y={y(0) - tall(m.joined)}
            height={tall(m.joined)}
            fill="var(--deep)"
          />
          <rect x={x(m.month)} width={x.bandwidth()} y={y(0)} height={tall(m.left)} fill="var(--brick)" />
          <rect
            x={x(m.month)}
            width={x.bandwidth()}
            y={y(0) + tall(m.left)}
            height={tall(m.bounced)}
            fill="var(--ochre)"
          />
          <text x={x(m.month)! + x.bandwidth() / 2} y={218} fontSize={12} textAnchor="middle">
            {m.month.slice(2)}
          </text>
        </g>
      ))}
      <line x1={60} x2={720} y1={y(0)} y2={y(0)} stroke="var(--ink)" strokeWidth={1.2} />
      <text
        x={724}
        y={y(up / 2)}
        fontSize={12}
        fill="var(--deep)"
        textAnchor="start"
        transform={`rotate(90 724 ${y(up / 2)})`}
      >
        joined
      </text>
      <text x={724} y={170} fontSize={12} transform="rotate(90 724 170)" textAnchor="middle">
        <tspan fill="var(--brick)">left</tspan>, <tspan fill="var(--ochre)">bounced</tspan>
      </text>
    </svg>
  );
}
