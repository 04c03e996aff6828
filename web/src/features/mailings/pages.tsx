import { Pages, page } from "../../app/pages";

const PAGES = [
  ["", page(() => import("./MailingsHome").then((m) => m.MailingsHome))],
  ["calendar", page(() => import("./CalendarPage").then((m) => m.CalendarPage))],
  ["compare", page(() => import("./ComparePage").then((m) => m.ComparePage))],
  ["reactions", page(() => import("../reactions/ReactionsPage").then((m) => m.ReactionsPage))],
  ["reactions/:id", page(() => import("../reactions/ReactionPage").then((m) => m.ReactionPage))],
  ["scores", page(() => import("../reactions/ScoresPage").then((m) => m.ScoresPage))],
  ["elsewhere", page(() => import("./ElsewherePage").then((m) => m.ElsewherePage))],
  ["elsewhere/:id", page(() => import("./ElsewhereFilePage").then((m) => m.ElsewhereFilePage))],
  [":id", page(() => import("./MailingPage").then((m) => m.MailingPage))],
] as const;

/** What stands at the addresses of Mailings. */
export const MailingsStation = () => <Pages of={PAGES} />;
