import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { api, ok } from "../../api/client";
import { Frame } from "../../app/Frame";
import { Loaded } from "../../shared/states";
import { useTrialSlips } from "../trials/useTrialSlips";
import { HourPlanEditor } from "./HourPlanEditor";
import { HourReadingView } from "./HourReadingView";
import { HourRunning } from "./HourRunning";
import { START } from "./hours";

/** A new plan. */
export function HourPlanPage() {
  const { slips } = useTrialSlips();
  return (
    <Frame slips={slips}>
      <HourPlanEditor from={START} id={null} />
    </Frame>
  );
}

export function HourTrialPage() {
  const id = Number(useParams().id);
  const { slips } = useTrialSlips();
  const trial = useQuery({
    queryKey: ["hour-trial", id],
    queryFn: () => ok(api.GET("/api/hour-trials/{id}", { params: { path: { id } } })),
  });
  return (
    <Frame slips={slips}>
      <Loaded query={trial}>
        {(v) => {
          if (v.trial.state === "planned") return <HourPlanEditor key={id} from={v.trial.plan} id={id} />;
          if (v.reading) return <HourReadingView v={v} r={v.reading} />;
          return <HourRunning v={v} />;
        }}
      </Loaded>
    </Frame>
  );
}
