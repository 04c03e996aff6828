import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { api, ok } from "../../api/client";
import { Frame } from "../../app/Frame";
import { Loaded } from "../../shared/states";
import { PlanEditor } from "./PlanEditor";
import { useTrialSlips } from "./useTrialSlips";

/** A new plan for a mailing. */
export function PlanPage() {
  const id = Number(useParams().mailing);
  const { slips } = useTrialSlips();
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
            {(from) => <PlanEditor mailing={m.id} name={m.name} subjects={m.subjects} from={from} />}
          </Loaded>
        )}
      </Loaded>
    </Frame>
  );
}
