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
  ["arm", "arm"],
  ["domain", "mailbox domain"],
  ["country", "country"],
  ["source", "source"],
];

/** What messages can be narrowed to. */
export const FILTERS = [
  "mailing",
  "topic",
  "letterhead",
  "label",
  "class",
  "channel",
  "list",
  "segment",
  "series",
  "domain",
  "country",
  "source",
] as const;
export type FilterKey = (typeof FILTERS)[number];

const TIMES: readonly By[] = ["mailing", "day", "week", "month"];
/** Does it follow in time? Otherwise groups stand beside each other. */
export const inTime = (by: By) => TIMES.includes(by);

const NUMBERS = [
  "days",
  "from",
  "to",
  "mailing",
  "topic",
  "letterhead",
  "label",
  "class",
  "channel",
  "list",
  "segment",
  "series",
  "domain",
];
const KEYS = ["by", "across", "figure", "clock", ...NUMBERS, "country", "source"];

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
      return value === null ? [] : [[key, NUMBERS.includes(key) ? Number(value) : value]];
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
