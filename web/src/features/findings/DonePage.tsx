import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, plural } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { DataTable } from "../../shared/table/DataTable";
import { Filters } from "./Filters";
import { useAsked } from "./asked";
import { OnPaper } from "./OnPaper";
import { SaveView } from "./SaveView";
import { useFindingsSlips } from "./useFindingsSlips";

/** What reactions brought: tags, points, lists, series, each opening to who and when. */
export function DonePage() {
  const slips = useFindingsSlips();
  const { query } = useAsked();
  const period = {
    days: query.days,
    ...(query.from != null && { from: query.from }),
    ...(query.to != null && { to: query.to }),
  };
  const done = useQuery({
    queryKey: ["findings-done", period],
    queryFn: () => ok(api.GET("/api/findings/reactions", { params: { query: period } })),
    placeholderData: (before) => before,
  });
  return (
    <Frame slips={slips}>
      <div className="crumb">
        <span>Findings</span>
        <span>done by reactions</span>
      </div>
      <h1>What reactions did</h1>
      <Loaded query={done}>
        {(d) => (
          <>
            <p className="finding">
              {d.acted === 0 ? (
                <>
                  No reaction acted in this period. <Link to="/mailings/reactions">See which there are</Link>.
                </>
              ) : (
                <>
                  Reactions acted <em>{plural(d.acted, "time")}</em>
                  {d.taken_back > 0 &&
                    `; ${count(d.taken_back)} of that was taken back, since what they waited for came later`}
                  .
                </>
              )}
            </p>
            <Filters total={undefined} only={[]} also={<SaveView />} />
            {d.deeds.length > 0 && (
              <DataTable<Schemas["Done"]>
                name="Done by reactions"
                rows={d.deeds}
                id={(r, i) => `${r.reaction} ${i}`}
                columns={(col) => [
                  col.shown(
                    "Deed",
                    (r) => r.deed,
                    (r) => (
                      <>
                        <Link to={`/mailings/reactions/${r.reaction}`}>{r.deed}</Link>
                        <div className="soft small">
                          {r.reaction_words}
                          {r.ended ? "; ended" : ""}
                        </div>
                      </>
                    ),
                  ),
                  col.text("Mailing", (r) => r.mailing ?? "any"),
                  col.number("Changed something", (r) => r.changed),
                  col.number("Taken back", (r) => r.taken_back),
                  col.text("Points", (r) => (r.points == null ? "" : count(Math.round(r.points)).replace("-", "−")), {
                    num: true,
                  }),
                ]}
              />
            )}
            <p className="soft small">
              Counted where a deed changed something: who has a tag already isn’t given it again. By the day it was
              done, UTC. Who and when stands on each reaction’s page. <OnPaper />
            </p>
          </>
        )}
      </Loaded>
    </Frame>
  );
}
