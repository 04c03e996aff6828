import { Pages, page } from "../../app/pages";

const PAGES = [
  ["answers", page(() => import("./AnswersPage").then((m) => m.AnswersPage))],
  ["compare", page(() => import("./CompareMailingsPage").then((m) => m.CompareMailingsPage))],
  ["links", page(() => import("./LinksPage").then((m) => m.LinksPage))],
  ["revenue", page(() => import("./RevenuePage").then((m) => m.RevenuePage))],
  ["", page(() => import("./FindingsPage").then((m) => m.FindingsPage))],
  ["reactions", page(() => import("./DonePage").then((m) => m.DonePage))],
  ["cohorts", page(() => import("./CohortsPage").then((m) => m.CohortsPage))],
] as const;

/** What stands at the addresses of Findings. */
export const FindingsStation = () => <Pages of={PAGES} />;
