import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { queries } from "../../api/queries";
import { FILTERS } from "./asked";

/** The slips of the Findings station: what is narrowed stays narrowed from one to the next. */
export function useFindingsSlips() {
  const [params] = useSearchParams();
  const views = useQuery(queries.savedViews).data ?? [];
  const kept = new URLSearchParams(
    [...params].filter(([key]) => ["days", "from", "to", "figure", "clock", "columns", ...FILTERS].includes(key)),
  );
  const to = (path: string, also: Record<string, string> = {}) => {
    const p = new URLSearchParams(kept);
    Object.entries(also).forEach(([key, value]) => p.set(key, value));
    const query = p.toString();
    return query === "" ? path : `${path}?${query}`;
  };
  return [
    {
      title: "Findings",
      slips: [
        { to: to("/findings"), title: "Mailings", words: "one by one, over time" },
        { to: to("/findings", { by: "weekday" }), title: "By when it was sent", words: "weekday, hour" },
        { to: to("/findings/answers"), title: "When people answer", words: "hour of the week" },
        { to: to("/findings", { by: "domain" }), title: "By whom", words: "domain, country, source" },
        { to: to("/findings", { by: "topic" }), title: "By what", words: "topic, letterhead, label" },
        { to: to("/findings/links"), title: "Links", words: "by name and place" },
        { to: to("/findings/revenue"), title: "Revenue", words: "what mail brought" },
        { to: "/contacts/growth", title: "Growth", words: "joined, left, bounced" },
        { to: "/findings/cohorts", title: "Cohorts", words: "by month of joining" },
        { to: to("/findings/reactions"), title: "Done by reactions", words: "tags, points, lists, series" },
        { to: "/findings/compare", title: "Compare", words: "up to six mailings" },
      ],
    },
    ...(views.length > 0
      ? [{ title: "Saved views", slips: views.map((v) => ({ to: v.path, title: v.name, words: v.person ?? "" })) }]
      : []),
  ];
}
