import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { RateNote } from "../../shared/Figure";
import { count, money, percent, plural } from "../../shared/format";
import { Bars } from "../../shared/picture/Bars";
import { Heat } from "../../shared/picture/Heat";
import { Pick } from "../../shared/Pick";
import { Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { OF_MAILINGS, BY, isTime, useAsked, type By } from "./asked";
import { Filters } from "./Filters";
import { OnPaper } from "./OnPaper";
import { SaveView } from "./SaveView";
import { useFindingsSlips } from "./useFindingsSlips";

/** By what it can be told. */
const TOLD: readonly By[] = [
  "mailing",
  "topic",
  "letterhead",
  "label",
  "list",
  "segment",
  "series",
  "channel",
  "day",
  "week",
  "month",
];

const TIMES = [
  ["month", "months"],
  ["week", "weeks"],
  ["day", "days"],
] as const;

type Cell = Schemas["RevenueCell"];

/** Groups by when they brought something. */
function Crossed({ name, cells, worth }: { name: string; cells: Cell[]; worth: (c: Cell) => string }) {
  const value = (c: Cell) => c.cents || c.conversions;
  const of = (key: (c: Cell) => string) => [...new Map(cells.map((c) => [key(c), c] as const)).values()];
  const [groups, times] = [of((c) => c.key), of((c) => c.when)];
  const at = new Map(cells.map((c) => [`${c.key} ${c.when}`, c] as const));
  const most = Math.max(1, ...cells.map((c) => Math.abs(value(c))));
  return (
    <>
      <Heat
        name={name}
        rows={groups.map((g) => g.name)}
        columns={times.map((t) => t.when_name)}
        every={Math.ceil(times.length / 8)}
        cell={(i, j) => {
          const c = at.get(`${groups[i]!.key} ${times[j]!.when}`);
          if (!c) return null;
          const words = times.length <= 14 ? count(Math.round(c.cents === 0 ? c.conversions : c.cents / 100)) : "";
          return { words, share: Math.max(0, value(c)) / most, hollow: value(c) < 0, says: worth(c) };
        }}
        caption="What was bought in the period, by its day in UTC, whenever the mailing went; hollow: refunds of more than was bought."
      />
      <details>
        <summary>The same as a table</summary>
        <DataTable
          name="Revenue by time"
          rows={cells}
          id={(c) => `${c.key} ${c.when}`}
          columns={(col) => [
            col.shown(
              "Bought",
              (c) => c.when,
              (c) => c.when_name,
            ),
            col.text("Group", (c) => c.name),
            col.number("Conversions", (c) => c.conversions),
            col.shown("Value, refunds off", (c) => c.cents, worth, { num: true, csv: (c) => c.cents / 100 }),
          ]}
        />
      </details>
    </>
  );
}

/** What mailings brought, by goal and the rule of attribution. */
export function RevenuePage() {
  const slips = useFindingsSlips();
  const [params] = useSearchParams();
  const { set, query } = useAsked();
  const goals = useQuery(queries.goals);
  const rule = useQuery(queries.attribution).data;
  const chosen = goals.data?.find((g) => String(g.id) === params.get("goal")) ?? goals.data?.[0];
  const by = TOLD.find((b) => b === params.get("by")) ?? "mailing";
  const ofDays = isTime(by);
  const across = ofDays ? undefined : TIMES.find(([t]) => t === params.get("across"))?.[0];
  const asked = { ...query, by, goal: chosen?.id ?? 0, across };
  const brought = useQuery({
    queryKey: ["findings-revenue", asked],
    queryFn: () => ok(api.GET("/api/findings/revenue", { params: { query: asked } })),
    enabled: chosen !== undefined,
    placeholderData: keepPreviousData,
  });
  const currency = chosen?.goal.currency ?? "";
  const worth = (cents: number) => (currency === "" ? "–" : money(cents, currency));
  return (
    <Frame slips={slips}>
      <Loaded query={goals}>
        {(all) => (
          <>
            <div className="crumb">
              <span>Findings</span>
              <span>revenue</span>
            </div>
            <h1>What the mailings brought</h1>
            {all.length === 0 || !chosen ? (
              <p className="finding">
                There is no goal yet: <Link to="/setup/goals">say what counts as a conversion</Link>.
              </p>
            ) : (
              <Loaded query={brought}>
                {({ rows, total, behind, cells }) => (
                  <>
                    <p className="finding">
                      {total.conversions === 0 ? (
                        `Nothing towards “${chosen.name}” was put down to a mailing in this period.`
                      ) : (
                        <>
                          “{chosen.name}”: {plural(total.conversions, "conversion")}
                          {currency !== "" && (
                            <>
                              , <em>{worth(total.cents)}</em>
                            </>
                          )}
                          {total.per_thousand != null &&
                            currency !== "" &&
                            `, ${worth(Math.round(total.per_thousand))} per thousand delivered`}
                          .
                        </>
                      )}
                    </p>
                    <p className="soft" style={{ maxWidth: "62em", margin: "0 0 8px" }}>
                      Counted: {chosen.words}.{" "}
                      {rule &&
                        `Put down to the ${rule.by === "last_click" ? "last" : "first"} human click in the ${plural(rule.days, "day")} before it, refunds off. `}
                      It says what followed a click, not what mail caused:{" "}
                      <Link to="/clearance/holdout">the holdout</Link> or a trial can tell that.
                    </p>
                    <Filters total={undefined} only={OF_MAILINGS} also={<SaveView />} />
                    <div
                      className="filters"
                      style={{ display: "flex", gap: 16, alignItems: "center", flexWrap: "wrap" }}
                    >
                      <span>
                        Goal:{" "}
                        <Pick
                          label="Goal"
                          value={chosen.id}
                          options={all.map((g) => [g.id, g.name] as const)}
                          onChange={(goal) => set({ goal })}
                        />
                      </span>
                      <span>
                        By:{" "}
                        <Pick
                          label="By"
                          value={by}
                          options={BY.filter(([b]) => TOLD.includes(b))}
                          onChange={(b) => set({ by: b })}
                        />
                      </span>
                      {!ofDays && (
                        <span>
                          Crossed with:{" "}
                          <Pick
                            label="Crossed with"
                            value={across ?? ""}
                            options={[["", "nothing"], ...TIMES]}
                            onChange={(t) => set({ across: t === "" ? null : t })}
                          />
                        </span>
                      )}
                      {behind && <span className="wait">some of the newest are still being put down</span>}
                    </div>
                    {cells && cells.length > 0 && (
                      <Crossed
                        name={`${chosen.name} by ${by} and ${across ?? "time"}`}
                        cells={cells}
                        worth={(c) => (currency === "" ? plural(c.conversions, "conversion") : worth(c.cents))}
                      />
                    )}
                    <Bars
                      name={`${chosen.name} by ${by}`}
                      bars={rows
                        .filter((r) => r.cents !== 0 || r.conversions !== 0)
                        .map((r) => ({
                          name: r.name,
                          value: currency === "" ? r.conversions : r.cents,
                          words: currency === "" ? plural(r.conversions, "conversion") : worth(r.cents),
                        }))}
                      caption={
                        ofDays
                          ? "By the day of the purchase or event, by UTC."
                          : "All that was brought until now by mailings handed over in the period."
                      }
                    />
                    <DataTable
                      name="Revenue"
                      rows={rows}
                      id={(r) => r.key}
                      columns={(col) => [
                        col.shown(
                          ofDays ? "When" : by === "mailing" ? "Mailing" : "Group",
                          (r) => r.name,
                          (r) => (by === "mailing" ? <Link to={`/mailings/${r.key}`}>{r.name}</Link> : r.name),
                        ),
                        ...(ofDays ? [] : [col.number("Delivered", (r) => r.delivered)]),
                        col.number("Conversions", (r) => r.conversions),
                        col.number("People", (r) => r.people),
                        ...(ofDays
                          ? []
                          : [
                              col.shown(
                                "Of people it was sent to",
                                (r) => r.rate?.rate,
                                (r) =>
                                  r.rate ? (
                                    <>
                                      {percent(r.rate.rate, 2)}
                                      <RateNote rate={r.rate} digits={2} />
                                    </>
                                  ) : (
                                    "–"
                                  ),
                                { num: true },
                              ),
                            ]),
                        col.shown(
                          "Value, refunds off",
                          (r) => r.cents,
                          (r) => worth(r.cents),
                          { num: true, csv: (r) => r.cents / 100 },
                        ),
                        ...(ofDays
                          ? []
                          : [
                              col.shown(
                                "Per thousand delivered",
                                (r) => r.per_thousand,
                                (r) => (r.per_thousand == null ? "–" : worth(Math.round(r.per_thousand))),
                                { num: true },
                              ),
                            ]),
                      ]}
                    />
                    <p className="soft small">
                      {count(rows.length)} rows. A person counts once for each mailing; value in hundredths in the
                      file’s JSON:{" "}
                      <a
                        href={`/api/findings/revenue?${new URLSearchParams(Object.entries(asked).flatMap(([k, v]) => (v === undefined ? [] : [[k, String(v)]]))).toString()}`}
                      >
                        as JSON
                      </a>
                      , <OnPaper />.
                    </p>
                  </>
                )}
              </Loaded>
            )}
          </>
        )}
      </Loaded>
    </Frame>
  );
}
