import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { bare, count, date, interval, money, percent, plural } from "../../shared/format";
import { Heat } from "../../shared/picture/Heat";
import { Pick } from "../../shared/Pick";
import { Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { OnPaper } from "./OnPaper";
import { SaveView } from "./SaveView";
import { useFindingsSlips } from "./useFindingsSlips";

type Cohorts = Schemas["Cohorts"];
type Cell = Schemas["CohortCell"];

/** What is asked of a cohort: its words, and what a cell says. */
type Measure = {
  name: string;
  value: (c: Cell) => number | null | undefined;
  words: (c: Cell) => string;
  says: (c: Cell) => string;
  /** The value as a table has it, and its limits. */
  told: (c: Cell) => [string, string];
  thin: (c: Cell) => boolean;
};

function rate(name: string, of: (c: Cell) => Schemas["Rate"]): Measure {
  return {
    name,
    value: (c) => of(c).rate,
    words: (c) => bare(of(c).rate, 0),
    says: (c) =>
      `${percent(of(c).rate)} (${bare(of(c).lower)} to ${bare(of(c).upper)}), ${count(of(c).count)} of ${plural(of(c).of, "person", "people")}`,
    told: (c) => [percent(of(c).rate), interval(of(c))],
    thin: (c) => of(c).thin,
  };
}

function spent(currency: string): Measure {
  const of = (c: Cell) => c.spent[currency];
  const each = (c: Cell) => of(c)?.each ?? 0;
  return {
    name: `${currency} spent in the month, a person`,
    value: each,
    words: (c) => (each(c) / 100).toFixed(each(c) < 1_000 ? 2 : 0),
    says: (c) => {
      const mean = of(c)?.mean;
      const limits = mean ? ` (${(mean.lower / 100).toFixed(2)} to ${(mean.upper / 100).toFixed(2)})` : "";
      return `${money(Math.round(each(c)), currency)}${limits} a person: ${money(of(c)?.cents ?? 0, currency)} by ${plural(of(c)?.buyers ?? 0, "buyer")} of ${count(c.mailable.of)}`;
    },
    told: (c) => {
      const mean = of(c)?.mean;
      return [
        (each(c) / 100).toFixed(2),
        mean ? `${(mean.lower / 100).toFixed(2)} to ${(mean.upper / 100).toFixed(2)}` : "thin",
      ];
    },
    thin: (c) => c.mailable.thin,
  };
}

/** The third month after joining, over all cohorts that are so old. */
function Sentence({ found, m, currency }: { found: Cohorts; m: string; currency: string | undefined }) {
  const cell = found.together.find((c) => c.since === 3);
  if (!cell) return <p className="finding">No cohort is three months old yet.</p>;
  const of = `of ${plural(cell.mailable.of, "person", "people")} who joined`;
  return (
    <p className="finding">
      {currency ? (
        <>
          In the third month after joining people spent{" "}
          <em>{money(Math.round(cell.spent[currency]?.each ?? 0), currency)}</em> each, {of}.
        </>
      ) : m === "answered" ? (
        <>
          In the third month after joining <em>{percent(cell.answered.rate)}</em> answered, {of}.
        </>
      ) : (
        <>
          Three months after joining <em>{percent(cell.mailable.rate)}</em> could still be mailed, {of}.
        </>
      )}
    </p>
  );
}

function View({ found, m, months }: { found: Cohorts; m: string; months: number }) {
  const currency = found.currencies.find((c) => m === `spent ${c}`);
  const measure =
    m === "answered"
      ? rate("Answered in the month", (c) => c.answered)
      : currency
        ? spent(currency)
        : rate("Still mailable at the month’s end", (c) => c.mailable);
  const cohorts = found.cohorts;
  const longest = Math.max(0, ...cohorts.map((c) => c.cells.length));
  const values = cohorts.flatMap((c) => c.cells.filter((x) => !measure.thin(x)).map((x) => measure.value(x) ?? 0));
  const [low, high] = [Math.min(...values), Math.max(...values)];
  const columns = Array.from({ length: Math.min(longest, 24) }, (_, i) => i);
  const sides = cohorts.map((c) => ({ ...c, by: new Map(c.cells.map((x) => [x.since, x])) }));
  const all = {
    name: "All, months over",
    people: cohorts.reduce((n, c) => n + c.people, 0),
    by: new Map(found.together.map((x) => [x.since, x])),
  };
  return (
    <>
      <Sentence found={found} m={m} currency={currency} />
      <Heat
        name={`Cohorts: ${measure.name.toLowerCase()}`}
        rows={sides.map((c) => `${c.name}, ${count(c.people)}`)}
        columns={columns.map((i) => String(i))}
        cell={(i, j) => {
          const c = sides[i]!.by.get(j);
          if (!c || measure.value(c) == null) return null;
          const share = high > low ? (measure.value(c)! - low) / (high - low) : 0.5;
          return {
            words: measure.words(c),
            share: Math.max(0, Math.min(1, share)),
            hollow: measure.thin(c),
            says: measure.says(c),
          };
        }}
        caption={`${measure.name}${currency ? "" : ", in percent"}, by months since the one of joining (0); rows: month of joining, people. Hollow: fewer than 100 people. The last field of each row is this month, which isn’t over. Who joined when was not left to chance: cohorts differ in how they came, too.`}
      />
      <DataTable
        name={`Cohorts, ${measure.name.toLowerCase()}`}
        rows={[...sides, all]}
        id={(c) => c.name}
        dense
        columns={(col) => [
          col.text("Joined", (c) => c.name),
          col.number("People", (c) => c.people),
          ...[0, 1, 3, 6, 12]
            .filter((i) => i < longest)
            .map((i) =>
              col.shown(
                i === 0 ? "That month" : plural(i, "month") + " later",
                (c) => {
                  const x = c.by.get(i);
                  return x && measure.value(x);
                },
                (c) => {
                  const x = c.by.get(i);
                  if (!x) return "–";
                  const [value, limits] = measure.told(x);
                  return (
                    <>
                      {value} <span className="soft small">{limits}</span>
                    </>
                  );
                },
                { num: true },
              ),
            ),
        ]}
      />
      <p className="soft small">
        Counted {date(found.counted_at)}, once a day. Still mailable: consent, an address that neither rests nor is
        retired, not sunset, as the ledger had it at the month’s end. Answered: opened where it can be known, clicked or
        replied, machines’ left out. Spent: all purchases of the month, refunds taken off, whatever led to them.{" "}
        <a href={`/api/findings/cohorts?months=${months}`}>All of it as JSON</a>, <OnPaper />
      </p>
    </>
  );
}

/** People by the month they joined in against the months since. */
export function CohortsPage() {
  const slips = useFindingsSlips();
  const [params, setParams] = useSearchParams();
  const m = params.get("measure") ?? "mailable";
  const months = Number(params.get("months") ?? 12);
  const set = (key: string, value: string) => {
    const p = new URLSearchParams(params);
    p.set(key, value);
    setParams(p, { replace: true });
  };
  const cohorts = useQuery({
    queryKey: ["findings-cohorts", months],
    queryFn: () => ok(api.GET("/api/findings/cohorts", { params: { query: { months } } })),
    placeholderData: (before) => before,
  });
  return (
    <Frame slips={slips}>
      <div className="crumb">
        <span>Findings</span>
        <span>cohorts</span>
      </div>
      <h1>What becomes of people who join</h1>
      <Loaded query={cohorts}>
        {(found) =>
          found.cohorts.length === 0 ? (
            <p className="finding">
              {found.counted_at == null
                ? "Cohorts are counted once a day: not yet here."
                : "Nobody joined in these months."}
            </p>
          ) : (
            <>
              <div className="filters" style={{ display: "flex", gap: 16, alignItems: "center", flexWrap: "wrap" }}>
                <Pick
                  label="Cohorts"
                  value={months}
                  options={[
                    [12, "joined in the last 12 months"],
                    [24, "joined in the last 24 months"],
                    [64, "joined in the last 64 months"],
                  ]}
                  onChange={(n) => set("months", String(n))}
                />
                <Pick
                  label="What is told"
                  value={m}
                  options={[
                    ["mailable", "still mailable"],
                    ["answered", "answered"],
                    ...found.currencies.map((c) => [`spent ${c}`, `spent, ${c}`] as const),
                  ]}
                  onChange={(v) => set("measure", v)}
                />
                <span>{plural(found.cohorts.length, "cohort")} shown</span>
                <SaveView />
              </div>
              <View found={found} m={m} months={months} />
            </>
          )
        }
      </Loaded>
    </Frame>
  );
}
