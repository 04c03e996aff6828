/** What the pages know of the server: the first word of every query's key. */
export const RESOURCES = [
  "attribution",
  "audience",
  "base-check",
  "beside",
  "brought",
  "calendar",
  "cap-guide",
  "changes",
  "check",
  "clock",
  "consent",
  "contact",
  "contacts",
  "decisions",
  "deliveries",
  "domains",
  "doors",
  "faring",
  "findings",
  "forecast",
  "goals",
  "growth",
  "holdout",
  "hour-seal",
  "hour-trial",
  "hour-trials",
  "images",
  "import",
  "imports",
  "keys",
  "leaders",
  "learned",
  "learned-hours",
  "letterheads",
  "links",
  "lists",
  "load",
  "look",
  "mailing",
  "mailings",
  "near-misses",
  "one-series",
  "outlook",
  "outside",
  "overlap",
  "parts",
  "people",
  "placeholders",
  "preview",
  "reach",
  "reaction",
  "reactions",
  "recency",
  "replies",
  "rules",
  "scores",
  "scores-of",
  "seal",
  "segment",
  "segments",
  "series",
  "series-of",
  "series-people",
  "sluice",
  "sluice-step",
  "sources",
  "split",
  "starters",
  "starting-plan",
  "suppression",
  "tasks",
  "today",
  "topics",
  "trial",
  "trials",
  "upkeep",
  "vocabulary",
  "way",
  "webhooks",
  "why",
  "workline",
] as const;
export type Resource = (typeof RESOURCES)[number];

declare module "@tanstack/react-query" {
  interface Register {
    queryKey: readonly [Resource, ...unknown[]];
  }
}

/** POSTs that ask and change nothing. */
const ASKS =
  /^\/api\/(audience|message\.eml|message-check|message-preview|message-test|verdict|contacts\/by-ids|segments\/(look|split|overlap|explain\/.*)|.*\/(preview|outlook|rehearsal|effects|try))$/;

/** Changes that reach no further than this; the first that fits counts. */
const REACH: [RegExp, Resource[]][] = [
  [/^\/api\/tasks/, ["tasks", "today"]],
  [/^\/api\/doors/, ["doors"]],
  [/^\/api\/images/, ["images"]],
  [/^\/api\/message-parts/, ["parts"]],
  [/^\/api\/(webhooks|deliveries)/, ["webhooks", "deliveries", "vocabulary", "today"]],
  [/^\/api\/goals/, ["goals", "brought", "holdout", "vocabulary"]],
  [/^\/api\/recency/, ["recency"]],
  [/^\/api\/letterheads\/.*\/keys/, ["keys", "reach"]],
  [/^\/api\/imports/, ["import", "imports"]],
  [/^\/api\/reactions/, ["reactions", "reaction", "vocabulary", "today"]],
  [/^\/api\/scores/, ["scores", "scores-of", "leaders", "contact", "vocabulary"]],
  [/^\/api\/base-check\/(aside|disposable)/, ["base-check", "today"]],
  [/^\/api\/today\/notices/, ["today"]],
  [/^\/api\/suppression\/.*\/looked-over/, ["suppression", "today"]],
  [/^\/api\/mailings\/.*\/labels/, ["mailings", "mailing", "vocabulary"]],
  [/^\/api\/mailings\/.*\/links/, ["links", "trial", "vocabulary"]],
];

/** What is no longer sure after a request: nothing after a question, everything after a change that may reach everywhere. */
export function stale(method: string, path: string): readonly Resource[] {
  if (method === "GET" || (method === "POST" && ASKS.test(path))) return [];
  return REACH.find(([changed]) => changed.test(path))?.[1] ?? RESOURCES;
}
