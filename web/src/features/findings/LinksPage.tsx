import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, ok } from "../../api/client";
import { Frame } from "../../app/Frame";
import { bare, count, percent, plural } from "../../shared/format";
import { Bars } from "../../shared/picture/Bars";
import { Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { OF_MAILINGS, useAsked } from "./asked";
import { Filters } from "./Filters";
import { OnPaper } from "./OnPaper";
import { SaveView } from "./SaveView";
import { useFindingsSlips } from "./useFindingsSlips";

/** Which links are followed, over mailings, by name and place. */
export function LinksPage() {
  const slips = useFindingsSlips();
  const { query } = useAsked();
  const links = useQuery({
    queryKey: ["findings-links", query],
    queryFn: () => ok(api.GET("/api/findings/links", { params: { query } })),
    placeholderData: keepPreviousData,
  });
  return (
    <Frame slips={slips}>
      <Loaded query={links}>
        {(all) => {
          const most = all[0];
          return (
            <>
              <div className="crumb">
                <span>Findings</span>
                <span>links</span>
              </div>
              <h1>Which links are followed</h1>
              <p className="finding">
                {!most || most.people.count === 0 ? (
                  "No link was followed in this period."
                ) : (
                  <>
                    “{most.name}” at place {most.place} was followed by <em>{percent(most.people.rate)}</em> of those it
                    was sent to, in {plural(most.mailings, "mailing")}.
                  </>
                )}
              </p>
              <Filters total={undefined} only={OF_MAILINGS} also={<SaveView />} />
              <Bars
                name="Links"
                bars={all
                  .filter((l) => l.people.count > 0)
                  .slice(0, 20)
                  .map((l) => ({
                    name: `${l.place}: ${l.name}`,
                    value: l.people.rate ?? 0,
                    words: `${percent(l.people.rate)} of ${count(l.people.of)}`,
                  }))}
                caption="People who followed it themselves, of those it was sent to; the twenty that most people followed. Where a link stands and what it says go together: not an experiment."
              />
              {all.length > 0 && (
                <DataTable
                  name="Links over mailings"
                  rows={all}
                  id={(l) => `${l.place} ${l.name}`}
                  columns={(col) => [
                    col.shown(
                      "Link",
                      (l) => l.name,
                      (l) => (
                        <>
                          {l.name}
                          <div className="soft small" style={{ overflowWrap: "anywhere" }}>
                            {l.url}
                          </div>
                        </>
                      ),
                    ),
                    col.number("Place", (l) => l.place),
                    col.number("Mailings", (l) => l.mailings),
                    col.number("People", (l) => l.people.count),
                    col.shown(
                      "Of those it was sent to",
                      (l) => l.people.rate,
                      (l) => (
                        <>
                          {percent(l.people.rate)}
                          <div className="soft small">
                            {l.people.thin
                              ? "thin"
                              : l.over_mailings
                                ? `${bare(l.over_mailings.lower)} to ${bare(l.over_mailings.upper)} by mailing`
                                : `${bare(l.people.lower)} to ${bare(l.people.upper)}`}
                          </div>
                        </>
                      ),
                      { num: true },
                    ),
                    col.number("Clicks", (l) => l.clicks),
                    col.number("By machines alone", (l) => l.machine),
                  ]}
                />
              )}
              <p className="soft small">
                <OnPaper />
              </p>
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
