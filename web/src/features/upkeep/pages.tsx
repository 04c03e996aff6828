import { Pages, page } from "../../app/pages";

const PAGES = [
  ["", page(() => import("./UpkeepPage").then((m) => m.UpkeepPage))],
  ["addresses", page(() => import("./AddressesPage").then((m) => m.AddressesPage))],
  ["incidents", page(() => import("./IncidentsPage").then((m) => m.IncidentsPage))],
  ["machines", page(() => import("./MachinesPage").then((m) => m.MachinesPage))],
  ["policy", page(() => import("./PolicyPage").then((m) => m.PolicyPage))],
  ["runs", page(() => import("./RunsPage").then((m) => m.RunsPage))],
  ["runs/:id", page(() => import("./RunPage").then((m) => m.RunPage))],
  ["evidence", page(() => import("./EvidencePage").then((m) => m.EvidencePage))],
  ["reasons", page(() => import("./ReasonsPage").then((m) => m.ReasonsPage))],
  ["silent", page(() => import("./SilentPage").then((m) => m.SilentPage))],
  ["record-system", page(() => import("./RecordsPage").then((m) => m.RecordsPage))],
  ["load", page(() => import("./LoadPage").then((m) => m.LoadPage))],
] as const;

/** What stands at the addresses of Upkeep. */
export const UpkeepStation = () => <Pages of={PAGES} />;
