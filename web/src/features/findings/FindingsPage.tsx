import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { Figure, RateNote } from "../../shared/Figure";
import { bare, count, date, percent, plural, pValue } from "../../shared/format";
import { Heat } from "../../shared/picture/Heat";
import { Pick } from "../../shared/Pick";
import { Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { DAY } from "../../shared/time";
import { BY, byClock, columnsOf, inTime, useAsked, useFound, wordsOf, type By, type Found } from "./asked";
import { ColumnsPick } from "./ColumnsPick";
import { FindOut } from "./FindOut";
import { FigureWorking, type FigureOf } from "./FigureWorking";
import { Filters } from "./Filters";
import { GroupPicture } from "./GroupPicture";
import { OnPaper } from "./OnPaper";
import { SaveView } from "./SaveView";
import { TimePicture } from "./TimePicture";
import { useFindingsSlips } from "./useFindingsSlips";

type Row = Schemas["FindingsGroup"];

function Told({ row, figure, catalogue, counts }: FigureOf & { counts: boolean }) {
  const r = row.figures[figure.key];
  if (!r) return "can't be seen";
  const told = counts ? count(r.count) : percent(r.rate, figure.decimals);
  return (
    <>
      <Figure
        title={`${figure.name}: ${told}`}
        working={<FigureWorking row={row} figure={figure} catalogue={catalogue} />}
      >
        {told}
      </Figure>
      {counts && !r.thin ? (
        <div className="soft small">of {count(r.of)}</div>
      ) : (
        <RateNote rate={r} digits={figure.decimals} />
      )}
    </>
  );
}

/** When a group of days began. */
function at(by: By, row: Row): number {
  if (by === "mailing") return row.started_at ?? 0;
  if (by === "month") return Date.parse(`${row.key}-01`);
  return by === "week" ? (Number(row.key) * 7 - 3) * DAY : Number(row.key) * DAY;
}

/** What the chosen figure says of all that is shown. */
function Sentence({ found }: { found: Found }) {
  const { figure, total, rows, by } = found;
  const r = total.figures[figure.key];
  if (!r || r.rate == null)
    return (
      <p className="finding">
        {total.sent === 0
          ? "Nothing went out in this period, with these filters."
          : `${figure.name} can’t be known of what went out: nobody can tell whether a text message was opened.`}
      </p>
    );
  const opened = figure.key === "human_opens";
  const outside = rows.filter((x) => x.norm?.outside);
  const normed = rows.filter((x) => x.norm);
  const better = rows.filter((x) => x.best?.told === "better");
  const asked = rows.some((x) => x.best);
  return (
    <>
      <p className="finding">
        {opened ? `Of ${count(total.figures.delivered?.count ?? 0)} delivered, ` : `${figure.name}: `}
        <em>{percent(r.rate, figure.decimals)}</em>
        {opened
          ? " were opened, of people whose opens can be known"
          : ` of ${count(r.of)} ${figure.of_words.split(":")[0]}`}
        {by === "mailing" &&
          (normed.length === 0
            ? "."
            : outside.length === 0
              ? "; no mailing lies outside its norm."
              : `; ${outside.length === 1 ? "one mailing lies" : `${count(outside.length)} mailings lie`} outside ${outside.length === 1 ? "its" : "their"} norm.`)}
        {by !== "mailing" && !asked && "."}
        {asked &&
          (better.length > 0
            ? `; better than the others together: ${better.map((b) => `“${b.name}”`).join(", ")}.`
            : `; which ${found.by_words} is best this can’t tell.`)}
      </p>
      {total.over_mailings && (
        <p className="soft" style={{ margin: "0 0 8px" }}>
          {bare(r.lower, figure.decimals)} to {bare(r.upper, figure.decimals)}% among people;{" "}
          {bare(total.over_mailings.lower, figure.decimals)} to {bare(total.over_mailings.upper, figure.decimals)}% with
          the mailing as the unit, since mailings differ from each other.
        </p>
      )}
    </>
  );
}

/** Not an experiment, and what would be one. */
function NoExperiment({ found }: { found: Found }) {
  if (!found.rows.some((r) => r.best)) return null;
  const hours = found.by === "hour" || found.by === "part_of_day";
  return (
    <p className="soft" style={{ maxWidth: "62em" }}>
      Not an experiment: who got mail in which group was not left to chance. A group is called better only where it
      beats the others together (p under 0.05 by Holm, the mailing as the unit) over six mailings and days or more.{" "}
      <FindOut figure={found.figure} hours={hours} />.
    </p>
  );
}

function words(best: Schemas["BestOfGroups"] | null | undefined) {
  if (!best) return "";
  if (best.told === "one_mailing") return "one mailing";
  if (best.told === "too_few") return "too few mailings or days";
  const by = `${best.difference >= 0 ? "+" : "−"}${Math.abs(best.difference * 100).toFixed(1)} points to the others, p ${pValue(best.adjusted_p)}`;
  return best.told === "better" ? `better: ${by}` : `can’t tell: ${by}`;
}

function Crossed({ found }: { found: Found }) {
  const { figure } = found;
  const cells = new Map(found.cells.map((c) => [`${c.row}\n${c.column}`, c]));
  const rates = found.cells.filter((c) => !c.rate.thin).map((c) => c.rate.rate!);
  const [low, high] = [Math.min(...rates), Math.max(...rates)];
  const columns = found.columns.slice(0, 24);
  const rows = found.rows.slice(0, 40);
  return (
    <Heat
      name={`${figure.name} by ${found.by_words} and ${found.across_words}`}
      rows={rows.map((r) => r.name)}
      columns={columns.map((c) => c.name)}
      cell={(i, j) => {
        const c = cells.get(`${rows[i]!.key}\n${columns[j]!.key}`);
        if (!c || c.rate.rate == null) return null;
        const share = high > low ? (c.rate.rate - low) / (high - low) : 0.5;
        return {
          words:
            columns.length > 12
              ? bare(c.rate.rate, figure.decimals > 1 ? figure.decimals : 0)
              : percent(c.rate.rate, Math.min(1, figure.decimals)),
          share: Math.max(0, Math.min(1, share)),
          hollow: c.rate.thin,
          says: `${percent(c.rate.rate, figure.decimals)} of ${count(c.rate.of)}, ${plural(c.mailings, "mailing")}`,
        };
      }}
      caption={`${figure.name}, in percent; hollow: fewer than 100 messages. Point at a field for its counts.${
        found.columns.length > columns.length || found.rows.length > rows.length
          ? ` The first ${rows.length} of ${found.rows.length} rows and ${columns.length} of ${found.columns.length} columns are drawn; the file has all.`
          : ""
      }`}
    />
  );
}

/** How mailings did: one by one over time, or put together by what they have in common. */
export function FindingsPage() {
  const slips = useFindingsSlips();
  const { params, set, query } = useAsked();
  const found = useFound(query);
  const by = query.by ?? "mailing";
  const counts = params.get("as") === "counts";
  const csv = new URLSearchParams(Object.entries(query).map(([k, v]) => [k, String(v)]));
  return (
    <Frame slips={slips}>
      <Loaded query={found}>
        {(f) => {
          const columns = columnsOf(query, f.catalogue);
          const chosen = columns.some((d) => d.key === f.figure.key) ? columns : [...columns, f.figure];
          return (
            <>
              <div className="crumb">
                <span>Findings</span>
                <span>{by === "mailing" ? "mailings" : `by ${wordsOf(by)}`}</span>
              </div>
              <h1>{by === "mailing" ? "How the mailings did" : "By what they have in common"}</h1>
              <Sentence found={f} />
              <Filters total={f.total} also={<SaveView />} />
              <div className="filters" style={{ display: "flex", gap: 16, alignItems: "center", flexWrap: "wrap" }}>
                <span className="switch" role="group" aria-label="Counts or rates">
                  <button aria-pressed={!counts} onClick={() => set({ as: null })}>
                    Rates
                  </button>
                  <button aria-pressed={counts} onClick={() => set({ as: "counts" })}>
                    Counts
                  </button>
                </span>
                <span>
                  Figure:{" "}
                  <Pick
                    label="Figure"
                    value={f.figure.key}
                    options={f.catalogue.filter((d) => d.of).map((d) => [d.key, d.name] as const)}
                    onChange={(figure) => set({ figure })}
                  />
                </span>
                <span>
                  By: <Pick label="By" value={by} options={BY} onChange={(b) => set({ by: b, across: null })} />
                </span>
                {by !== "mailing" && (
                  <span>
                    and{" "}
                    <Pick
                      label="Crossed with"
                      value={query.across ?? ""}
                      options={[
                        ["", "nothing else"],
                        ...BY.filter(([b]) => b !== by && b !== "mailing" && b !== "day"),
                      ]}
                      onChange={(a) => set({ across: a === "" ? null : a })}
                    />
                  </span>
                )}
                <ColumnsPick
                  catalogue={f.catalogue}
                  chosen={columns}
                  onChange={(keys) => set({ columns: keys.join(",") })}
                />
                {(byClock(by) || (query.across && byClock(query.across))) && (
                  <Pick
                    label="Clock"
                    value={f.clock}
                    options={[
                      ["recipients", "recipients’ clock"],
                      ["utc", "UTC"],
                    ]}
                    onChange={(clock) => set({ clock })}
                  />
                )}
              </div>
              {f.across ? (
                <Crossed found={f} />
              ) : inTime(by) ? (
                <TimePicture
                  figure={f.figure}
                  points={f.rows.flatMap((r) => {
                    const rate = r.figures[f.figure.key];
                    // A series' messages go all the time: they have no day.
                    return rate && (by !== "mailing" || r.started_at != null)
                      ? [{ at: at(by, r), name: r.name, rate, norm: r.norm }]
                      : [];
                  })}
                />
              ) : (
                <GroupPicture rows={f.rows} figure={f.figure} />
              )}
              <NoExperiment found={f} />
              {f.rows.length > 0 && (
                <DataTable
                  name={by === "mailing" ? "Mailings" : "Groups"}
                  rows={f.rows}
                  id={(r) => r.key}
                  columns={(col) => [
                    col.shown(
                      by === "mailing" ? "Mailing" : "Group",
                      (r) => r.name,
                      (r) =>
                        by === "mailing" ? (
                          <>
                            <Link to={`/mailings/${r.key}`}>{r.name}</Link>
                            <div className="soft small">
                              {r.started_at == null ? "of a series" : date(r.started_at)}
                              {r.norm?.outside &&
                                `, outside its norm (${bare(r.norm.lower)} to ${bare(r.norm.upper)}%)`}
                            </div>
                          </>
                        ) : (
                          <>
                            {r.name}
                            <div className="soft small">
                              {r.only
                                ? `one mailing: ${r.only}`
                                : `${plural(r.mailings, "mailing")} on ${plural(r.days, "day")}`}
                            </div>
                          </>
                        ),
                    ),
                    col.number("Sent", (r) => r.sent, {
                      cell: (r) => (
                        <Figure
                          title={`Sent: ${count(r.sent)}`}
                          working={f.catalogue
                            .filter((d) => d.figure === "sent")
                            .map((d) => (
                              <FigureWorking key={d.key} row={r} figure={d} catalogue={f.catalogue} />
                            ))}
                        >
                          {count(r.sent)}
                        </Figure>
                      ),
                    }),
                    ...chosen.map((d) =>
                      col.shown(
                        d.name,
                        (r) => (counts ? r.figures[d.key]?.count : r.figures[d.key]?.rate),
                        (r) => <Told row={r} figure={d} catalogue={f.catalogue} counts={counts} />,
                        { num: true, tone: (r) => (r.figures[d.key] ? undefined : "soft") },
                      ),
                    ),
                    ...(f.rows.some((r) => r.best)
                      ? [col.text(`Best in ${f.figure.name.toLowerCase()}`, (r) => words(r.best))]
                      : []),
                  ]}
                />
              )}
              <p className="soft small">
                <a href={`/api/findings/by.csv?${csv.toString()}`}>All figures as CSV</a>,{" "}
                <a href={`/api/findings/by?${csv.toString()}`}>as JSON</a>, <OnPaper />
              </p>
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
