import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { api, ok, type Schemas } from "../../api/client";
import type { paths } from "../../api/schema";

export type By = Schemas["GroupedBy"];
/** All that can be asked. */
type Query = NonNullable<paths["/api/findings/by"]["get"]["parameters"]["query"]>;
export type Found = Schemas["FindingsBy"];

/** What messages can be put together by. */
export const BY: readonly (readonly [By, string])[] = [
  ["mailing", "mailing"],
  ["day", "day"],
  ["week", "week"],
  ["month", "month"],
  ["weekday", "weekday"],
  ["part_of_day", "part of the day"],
  ["hour", "hour"],
  ["topic", "topic"],
  ["letterhead", "letterhead"],
  ["label", "label"],
  ["class", "class"],
  ["channel", "channel"],
  ["list", "list"],
  ["segment", "segment"],
  ["series", "series"],
  ["step", "step of a series"],
  ["arm", "arm"],
  ["domain", "mailbox domain"],
  ["country", "country"],
  ["source", "source"],
  ["load", "mail load"],
];

/** A grouping in words. */
export const wordsOf = (by: By) => BY.find(([b]) => b === by)?.[1] ?? by;

/** What says something of mailings, and so can narrow any page … */
export const OF_MAILINGS = [
  "mailing",
  "topic",
  "letterhead",
  "label",
  "class",
  "channel",
  "list",
  "segment",
  "series",
] as const;
/** … and what messages can be narrowed to. */
export const FILTERS = [...OF_MAILINGS, "domain", "country", "source", "load"] as const;
export type FilterKey = (typeof FILTERS)[number];

const TIMES: readonly By[] = ["day", "week", "month"];
/** Is it days, weeks or months? */
export const isTime = (by: By) => TIMES.includes(by);
/** Does it follow in time? Otherwise groups stand beside each other. */
export const inTime = (by: By) => by === "mailing" || isTime(by);
/** Is it told by a clock? */
export const byClock = (by: By) => isTime(by) || by === "weekday" || by === "part_of_day" || by === "hour";

/** The figures that stand beside each other until others are chosen; all can be drawn, and are told in workings. */
const COLUMNS = "accepted,bounced,human_opens,human_clicks,complaints,leaving";

/** Figures of the catalogue as columns, those that the address names. */
export function columnsOf(query: Query, catalogue: Found["catalogue"]): Found["catalogue"] {
  const keys = (query.columns ?? COLUMNS).split(",");
  return catalogue.filter((d) => d.of && keys.includes(d.key));
}

/** What is asked in words; everything else is a number. */
const IN_WORDS = ["by", "across", "figure", "clock", "columns", "country", "source"];
const KEYS = [...IN_WORDS, "days", "from", "to", ...FILTERS.filter((f) => !IN_WORDS.includes(f))];

/** What the page's address asks, and how to ask something else. */
export function useAsked() {
  const [params, setParams] = useSearchParams();
  const set = (change: Record<string, string | number | null>) => {
    const p = new URLSearchParams(params);
    Object.entries(change).forEach(([key, value]) => (value === null ? p.delete(key) : p.set(key, String(value))));
    setParams(p, { replace: true });
  };
  const query = Object.fromEntries(
    KEYS.flatMap((key) => {
      const value = params.get(key);
      return value === null ? [] : [[key, IN_WORDS.includes(key) ? value : Number(value)]];
    }),
  ) as Query;
  return { params, set, query: { days: 365, ...query } };
}

/** Groups with their figures, as they are asked for. */
export function useFound(query: ReturnType<typeof useAsked>["query"]) {
  return useQuery({
    queryKey: ["findings-by", query],
    queryFn: () => ok(api.GET("/api/findings/by", { params: { query } })),
    // What stood there stays until the next is there.
    placeholderData: (before) => before,
  });
}
