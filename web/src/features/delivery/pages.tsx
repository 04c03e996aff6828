import { Pages, page } from "../../app/pages";

const PAGES = [
  ["", page(() => import("./DeliveryPage").then((m) => m.DeliveryPage))],
  ["alerts", page(() => import("./AlertsPage").then((m) => m.AlertsPage))],
  ["authentication", page(() => import("./NamesPage").then((m) => m.NamesPage))],
  ["blocklists", page(() => import("./BlocklistsPage").then((m) => m.BlocklistsPage))],
  ["groups", page(() => import("./GroupsPage").then((m) => m.GroupsPage))],
  ["warm-up", page(() => import("./WarmUpPage").then((m) => m.WarmUpPage))],
  ["panel", page(() => import("./PanelPage").then((m) => m.PanelPage))],
  ["reports", page(() => import("./ReportsPage").then((m) => m.ReportsPage))],
] as const;

/** What stands at the addresses of Delivery. */
export const DeliveryStation = () => <Pages of={PAGES} />;
