import { queryOptions, useQuery } from "@tanstack/react-query";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { AsOf } from "../../shared/AsOf";
import { Figure, RateNote, RateWorking } from "../../shared/Figure";
import { count, percent, plural } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { useContactSlips } from "../contacts/useContactSlips";

const asked = queryOptions({ queryKey: ["sources"], queryFn: () => ok(api.GET("/api/sources")) });

type Source = Schemas["Quality"];

const named = (s: Source) => s.source ?? "no source on record";

/** What became of the people of a source: head, rate, decimals, and what it counts. */
const OUTCOMES: [string, (s: Source) => Schemas["Rate"], number, string][] = [
  [
    "No such address",
    (s) => s.bounces,
    1,
    "People whose host said for good that the address doesn't exist, of those mailed.",
  ],
  ["Complaints", (s) => s.complaints, 2, "People who complained, of those mailed."],
  [
    "Silence",
    (s) => s.silence,
    1,
    "People who got four messages or more in 180 days and answered none (no human open, click or reply), of those who got so many; people whose opens can't be told are left out.",
  ],
  ["Bought", (s) => s.conversions, 1, "People with at least one purchase, of all from this source."],
];

function Outcome({ head, of, rate, digits, counted }: { head: string; of: Source; counted: string } & Shown) {
  const told = percent(rate.rate, digits);
  return (
    <>
      <Figure
        title={`${head}: ${told}`}
        working={
          <>
            <RateWorking rate={rate} digits={2} />
            <h3>Counted</h3>
            <p style={{ marginTop: 0 }}>{counted}</p>
            <p className="soft">{named(of)}. No other filter in force.</p>
          </>
        }
      >
        {told}
      </Figure>
      <RateNote rate={rate} digits={digits} />
    </>
  );
}
type Shown = { rate: Schemas["Rate"]; digits: number };

/** Where people came from, and what became of them. */
export function SourcesPage() {
  const slips = useContactSlips();
  const sources = useQuery(asked);
  return (
    <Frame slips={slips}>
      <Loaded query={sources}>
        {(all) => {
          const jumped = all.filter((s) => s.jumped);
          return (
            <>
              <div className="crumb">
                <span>Contacts</span>
              </div>
              <h1>Where people came from, and what became of them</h1>
              <AsOf of="/api/sources" />
              <p className="finding">
                {jumped.length ? (
                  <>
                    Sign-ups from <em className="bad">{jumped.map(named).join(", ")}</em> jumped in the last week: look
                    whether they are people.
                  </>
                ) : (
                  <>
                    <em>{plural(all.length, "source")}</em>; none brought unusually many people in the last week.
                  </>
                )}
              </p>
              <DataTable
                name="Sources"
                rows={all}
                id={named}
                columns={(col) => [
                  col.text("Source", named, { tone: (s) => (s.source == null ? "soft" : undefined) }),
                  col.number("People", (s) => s.people),
                  ...OUTCOMES.map(([head, of, digits, counted]) =>
                    col.shown(
                      head,
                      (s) => of(s).rate,
                      (s) => <Outcome head={head} of={s} rate={of(s)} digits={digits} counted={counted} />,
                      { num: true },
                    ),
                  ),
                  col.shown(
                    "Last week",
                    (s) => s.last_week,
                    (s) => (
                      <>
                        {count(s.last_week)}
                        <div className="soft small">usually {s.usual_week.toFixed(1)}</div>
                      </>
                    ),
                    { num: true, tone: (s) => (s.jumped ? "bad" : undefined) },
                  ),
                ]}
              />
              <p className="soft small">
                A jump is a week with at least 20 sign-ups that chance alone would bring less than once in a thousand,
                held against the eight weeks before (exact test of two Poisson rates).
              </p>
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
