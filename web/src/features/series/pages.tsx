import { Pages, page } from "../../app/pages";

const PAGES = [
  ["", page(() => import("./SeriesHome").then((m) => m.SeriesHome))],
  [":id", page(() => import("./SeriesPage").then((m) => m.SeriesPage))],
  [":id/people", page(() => import("./SeriesPeoplePage").then((m) => m.SeriesPeoplePage))],
] as const;

/** What stands at the addresses of Series. */
export const SeriesStation = () => <Pages of={PAGES} />;
