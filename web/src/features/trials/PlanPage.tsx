import { useQuery } from "@tanstack/react-query";
import { useParams, useSearchParams } from "react-router";
import { api, ok } from "../../api/client";
import { Frame } from "../../app/Frame";
import { Loaded } from "../../shared/states";
import { METRIC_OF } from "./metrics";
import { PlanEditor } from "./PlanEditor";
import { useTrialSlips } from "./useTrialSlips";

/** A new plan for a mailing; a finding that starts one says its question and metric. */
export function PlanPage() {
  const id = Number(useParams().mailing);
  const { slips } = useTrialSlips();
  const [params] = useSearchParams();
  const mailing = useQuery({
    queryKey: ["mailing", id],
    queryFn: () => ok(api.GET("/api/mailings/{id}", { params: { path: { id } } })),
  });
  const plan = useQuery({
    queryKey: ["starting-plan", id],
    queryFn: () => ok(api.GET("/api/mailings/{id}/trial", { params: { path: { id } } })),
    // What is written into it stays, whatever is asked again meanwhile.
    staleTime: Infinity,
    gcTime: 0,
  });
  return (
    <Frame slips={slips}>
      <Loaded query={mailing}>
        {(m) => (
          <Loaded query={plan}>
            {(from) => (
              <PlanEditor
                mailing={m.id}
                name={m.name}
                subjects={m.subjects}
                from={{
                  ...from,
                  question: params.get("question") ?? from.question,
                  metric: Object.values(METRIC_OF).find((x) => x === params.get("metric")) ?? from.metric,
                }}
              />
            )}
          </Loaded>
        )}
      </Loaded>
    </Frame>
  );
}
