import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { api, ok } from "../../api/client";
import { Frame } from "../../app/Frame";
import { Loaded } from "../../shared/states";
import { PlanEditor } from "./PlanEditor";
import { seriesPlan, startingPlan } from "./startingPlan";
import { useTrialSlips } from "./useTrialSlips";

/** A new plan for a mailing. */
export function PlanPage() {
  const id = Number(useParams().mailing);
  const { slips } = useTrialSlips();
  const mailing = useQuery({
    queryKey: ["mailing", id],
    queryFn: () => ok(api.GET("/api/mailings/{id}", { params: { path: { id } } })),
  });
  return (
    <Frame slips={slips}>
      <Loaded query={mailing}>
        {(m) => (
          <PlanEditor
            mailing={m.id}
            name={m.name}
            subjects={m.subjects}
            from={m.series_id == null ? startingPlan : seriesPlan}
          />
        )}
      </Loaded>
    </Frame>
  );
}
