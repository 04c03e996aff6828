import { Pages, page } from "../../app/pages";

const PAGES = [
  ["", page(() => import("./TrialsHome").then((m) => m.TrialsHome))],
  ["plan/:mailing", page(() => import("./PlanPage").then((m) => m.PlanPage))],
  ["learned", page(() => import("./LearnedPage").then((m) => m.LearnedPage))],
  ["outside", page(() => import("./OutsidePage").then((m) => m.OutsidePage))],
  ["hours/new", page(() => import("../hours/HourTrialPage").then((m) => m.HourPlanPage))],
  ["hours/:id", page(() => import("../hours/HourTrialPage").then((m) => m.HourTrialPage))],
  [":id", page(() => import("./TrialPage").then((m) => m.TrialPage))],
] as const;

/** What stands at the addresses of Trials. */
export const TrialsStation = () => <Pages of={PAGES} />;
