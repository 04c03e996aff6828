import { queryOptions, useQuery } from "@tanstack/react-query";
import { api, ok } from "../../api/client";
import { Frame } from "../../app/Frame";
import { count, plural } from "../../shared/format";
import { Loaded } from "../../shared/states";
import { IncidentNote } from "./IncidentNote";
import { useUpkeepSlips } from "./useUpkeepSlips";

const asked = queryOptions({ queryKey: ["incidents"], queryFn: () => ok(api.GET("/api/upkeep/incidents")) });

/** Failures that waited, or wait, for a person. */
export function IncidentsPage() {
  const slips = useUpkeepSlips();
  const incidents = useQuery(asked);
  return (
    <Frame slips={slips}>
      <Loaded query={incidents}>
        {(all) => {
          const waiting = all.filter((i) => i.counts == null).length;
          return (
            <>
              <div className="crumb">
                <span>Upkeep</span>
              </div>
              <h1>Incidents</h1>
              <p className="finding">
                {all.length === 0 ? (
                  "No host has failed far more than usual."
                ) : (
                  <>
                    <em>{plural(waiting, "incident")}</em> {waiting === 1 ? "waits" : "wait"} for a person, of{" "}
                    {count(all.length)}.
                  </>
                )}
              </p>
              <p className="soft" style={{ maxWidth: "62em" }}>
                When far more addresses of one mailbox group, or of one domain of it, fail on a mailing than usually do,
                it is most likely their host that failed. Then none of the failures counts against them until a person
                has read what the host said. Where the limits lie is in the policy.
              </p>
              {all.map((i) => (
                <IncidentNote key={i.id} i={i} />
              ))}
            </>
          );
        }}
      </Loaded>
    </Frame>
  );
}
