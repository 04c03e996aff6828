import { Pages, page } from "../../app/pages";

const PAGES = [
  ["", page(() => import("./SetupPage").then((m) => m.SetupPage))],
  ["letterheads/:id", page(() => import("./LetterheadPage").then((m) => m.LetterheadPage))],
  ["goals", page(() => import("./GoalsPage").then((m) => m.GoalsPage))],
  ["words", page(() => import("./WordsPage").then((m) => m.WordsPage))],
  ["people", page(() => import("./PeoplePage").then((m) => m.PeoplePage))],
  ["systems", page(() => import("./WebhooksPage").then((m) => m.WebhooksPage))],
] as const;

/** What stands at the addresses of Setup. */
export const SetupStation = () => <Pages of={PAGES} />;
