import { Pages, page } from "../../app/pages";

const PAGES = [
  ["", page(() => import("./ContactsPage").then((m) => m.ContactsPage))],
  ["import", page(() => import("./ImportPage").then((m) => m.ImportPage))],
  ["import/:id", page(() => import("./ImportRunPage").then((m) => m.ImportRunPage))],
  ["add", page(() => import("./AddPage").then((m) => m.AddPage))],
  ["recency", page(() => import("../guides/RecencyPage").then((m) => m.RecencyPage))],
  ["growth", page(() => import("../guides/GrowthPage").then((m) => m.GrowthPage))],
  ["sources", page(() => import("../guides/SourcesPage").then((m) => m.SourcesPage))],
  ["check", page(() => import("./BaseCheckPage").then((m) => m.BaseCheckPage))],
  ["words", page(() => import("./WordsPage").then((m) => m.WordsPage))],
  ["segments", page(() => import("../segments/SegmentsPage").then((m) => m.SegmentsPage))],
  ["segments/:id", page(() => import("../segments/SegmentPage").then((m) => m.SegmentPage))],
  [":id", page(() => import("./ContactPage").then((m) => m.ContactPage))],
] as const;

/** What stands at the addresses of Contacts. */
export const ContactsStation = () => <Pages of={PAGES} />;
