import { Pages, page } from "../../app/pages";

const PAGES = [
  ["", page(() => import("./DeliveryPage").then((m) => m.DeliveryPage))],
  ["reports", page(() => import("./ReportsPage").then((m) => m.ReportsPage))],
] as const;

/** What stands at the addresses of Delivery. */
export const DeliveryStation = () => <Pages of={PAGES} />;
