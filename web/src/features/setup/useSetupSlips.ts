import { useQuery } from "@tanstack/react-query";
import { queries } from "../../api/queries";

/** The slips of Setup. */
export function useSetupSlips() {
  const letterheads = useQuery(queries.letterheads).data ?? [];
  return [
    {
      title: "Setup",
      slips: [
        { to: "/setup", title: "All of it" },
        { to: "/setup/goals", title: "Goals and attribution", words: "what counts, and put down to what" },
        { to: "/setup/words", title: "Fields and labels" },
        { to: "/setup/people", title: "People", words: "who works with Rinse" },
        { to: "/setup/systems", title: "Other systems", words: "webhooks, mail doors" },
        { to: "/upkeep/record-system", title: "Record system", words: "who must not come back" },
      ],
    },
    {
      title: "Letterheads",
      slips: [
        ...letterheads.map((l) => ({ to: `/setup/letterheads/${l.id}`, title: l.name })),
        { to: "/setup/letterheads/0", title: "New letterhead" },
      ],
    },
  ];
}
