import { useQuery } from "@tanstack/react-query";
import { queries } from "../../api/queries";
import { count, plural } from "../../shared/format";

/** The slips of the Upkeep station. */
export function useUpkeepSlips() {
  const { data } = useQuery(queries.upkeep);
  const of = (n: number | undefined) => (n === undefined ? "" : count(n));
  const due = data && [
    data.due > 0 && `${plural(data.due, "address", "addresses")}`,
    data.silent_due > 0 && `${count(data.silent_due)} silent`,
    data.to_delete > 0 && `${count(data.to_delete)} to delete`,
    data.incidents.length > 0 && plural(data.incidents.length, "incident"),
  ];
  const applied = data?.runs.filter((r) => r.applied_at != null).length;
  return [
    {
      title: "Upkeep",
      slips: [
        { to: "/upkeep", title: "What is due", words: due ? due.filter(Boolean).join(", ") || "nothing" : "" },
        {
          to: "/upkeep/runs",
          title: "Runs",
          words: applied === undefined ? "" : `${count(applied)} in twelve months`,
        },
        { to: "/upkeep/policy", title: "Policy", words: data ? `version ${data.policy_version}` : "" },
        {
          to: "/upkeep/incidents",
          title: "Incidents",
          words: data ? (data.incidents.length > 0 ? `${count(data.incidents.length)} to decide` : "none waits") : "",
        },
        { to: "/upkeep/reasons", title: "Reasons", words: "what hosts said" },
        {
          to: "/upkeep/silent",
          title: "Silent people",
          words: data
            ? data.silent_due > 0
              ? `${count(data.silent_due)} let it pass`
              : "asked, let go, kept back"
            : "",
        },
        { to: "/upkeep/machines", title: "Machine rules", words: "what counts as a person’s" },
        { to: "/upkeep/record-system", title: "Record system", words: "who must not come back" },
        { to: "/upkeep/evidence", title: "Evidence", words: "for those who ask" },
        { to: "/upkeep/load", title: "Mail load", words: "how much, how answered" },
      ],
    },
    {
      title: "Addresses",
      slips: [
        { to: "/upkeep/addresses?status=retired", title: "Retired", words: of(data?.base.retired) },
        { to: "/upkeep/addresses?status=resting", title: "Resting", words: of(data?.base.resting) },
        { to: "/upkeep/addresses?status=observed", title: "Observed", words: of(data?.base.observed) },
      ],
    },
  ];
}
