import { Pages, page } from "../../app/pages";

const PAGES = [
  ["", page(() => import("./ClearanceHome").then((m) => m.ClearanceHome))],
  ["rules", page(() => import("./RulesPage").then((m) => m.RulesPage))],
  ["domains", page(() => import("./DomainsPage").then((m) => m.DomainsPage))],
  ["suppression", page(() => import("./SuppressionPage").then((m) => m.SuppressionPage))],
  ["suppression/:id", page(() => import("./SuppressionListPage").then((m) => m.SuppressionListPage))],
  ["cap-guide", page(() => import("./CapGuidePage").then((m) => m.CapGuidePage))],
  ["forecast", page(() => import("./ForecastPage").then((m) => m.ForecastPage))],
  ["consent", page(() => import("./ConsentPage").then((m) => m.ConsentPage))],
  ["elsewhere", page(() => import("./ElsewherePage").then((m) => m.ElsewherePage))],
  ["holdout", page(() => import("./HoldoutPage").then((m) => m.HoldoutPage))],
  [":id", page(() => import("./SluicePage").then((m) => m.SluicePage))],
  [":id/person/:contact", page(() => import("./WhyPage").then((m) => m.WhyPage))],
] as const;

/** What stands at the addresses of Clearance. */
export const ClearanceStation = () => <Pages of={PAGES} />;
