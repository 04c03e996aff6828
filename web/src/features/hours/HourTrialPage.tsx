import { useQuery } from "@tanstack/react-query";
import { useParams, useSearchParams } from "react-router";
import { api, ok } from "../../api/client";
import { Frame } from "../../app/Frame";
import { Loaded } from "../../shared/states";
import { useTrialSlips } from "../trials/useTrialSlips";
import { HourPlanEditor } from "./HourPlanEditor";
import { HourReadingView } from "./HourReadingView";
import { HourRunning } from "./HourRunning";
import { START } from "./hours";

const METRICS = ["human_open", "human_click", "reply"] as const;

/** A new plan; a finding that starts one says its question and metric. */
export function HourPlanPage() {
  const { slips } = useTrialSlips();
  const [params] = useSearchParams();
  const metric = METRICS.find((m) => m === params.get("metric")) ?? START.metric;
  const from = { ...START, metric, question: params.get("question") ?? START.question };
  return (
    <Frame slips={slips}>
      <HourPlanEditor from={from} id={null} />
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
