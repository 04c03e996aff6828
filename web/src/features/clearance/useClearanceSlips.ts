import { useQuery } from "@tanstack/react-query";
import { queries } from "../../api/queries";
import { instant, plural } from "../../shared/format";

/** The slips of the Clearance station: coming mailings, then the rules. */
export function useClearanceSlips() {
  const mailings = useQuery(queries.mailings);
  const rules = useQuery(queries.rules);
  const suppression = useQuery(queries.suppression);
  const coming = (mailings.data ?? []).filter((m) => m.state !== "sent" && m.series_id == null);
  const caps = rules.data?.caps ?? [];
  const inForce = caps.filter((c) => c.in_force).length;
  const capsInWords =
    caps.length === 0 ? "none" : inForce === caps.length ? "in force" : `${inForce} of ${caps.length} in force`;
  const slips = [
    {
      title: "Coming mailings",
      slips: coming.map((m) => ({
        to: `/clearance/${m.id}`,
        title: m.name,
        words: m.planned_at ? instant(m.planned_at) : m.state,
      })),
    },
    {
      title: "Rules",
      slips: [
        { to: "/clearance/rules", title: "Caps and hours", words: rules.data ? capsInWords : "" },
        {
          to: "/clearance/suppression",
          title: "Suppression",
          words: suppression.data ? plural(suppression.data.length, "list") : "",
        },
        { to: "/clearance/consent", title: "Consent" },
        { to: "/clearance/domains", title: "Domains", words: "paused or not" },
      ],
    },
    {
      title: "Ahead and behind",
      slips: [
        { to: "/clearance/forecast", title: "Forecast", words: "28 days" },
        { to: "/clearance/holdout", title: "Holdout", words: "what mail earns" },
        { to: "/clearance/elsewhere", title: "Sent by another system", words: "who may be written to" },
        { to: "/clearance/cap-guide", title: "Cap guide", words: "how much is too much" },
      ],
    },
  ];
  return { slips, first: coming[0]?.id, ready: mailings.isSuccess };
}
