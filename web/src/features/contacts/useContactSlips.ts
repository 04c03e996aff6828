import { queryOptions, useQuery } from "@tanstack/react-query";
import { api, ok } from "../../api/client";
import { queries } from "../../api/queries";
import type { Slip } from "../../app/Frame";
import { count } from "../../shared/format";

const asked = queryOptions({ queryKey: ["imports"], queryFn: () => ok(api.GET("/api/imports")) });

/** The slips of the Contacts station: everyone, segments, the lists, the imports. */
export function useContactSlips(): { title: string; slips: Slip[] }[] {
  const lists = useQuery(queries.lists);
  const runs = useQuery(asked);
  return [
    {
      title: "Contacts",
      slips: [
        { to: "/contacts", title: "Everyone" },
        { to: "/contacts/segments", title: "Segments" },
        { to: "/contacts/growth", title: "Growth" },
        { to: "/contacts/recency", title: "Recency guide" },
        { to: "/contacts/sources", title: "Sources" },
        { to: "/contacts/import", title: "Import a file", words: "people, scores, purchases, events" },
        { to: "/contacts/check", title: "Base check" },
        { to: "/contacts/add", title: "Add a person" },
        { to: "/contacts/words", title: "Lists and tags" },
      ],
    },
    ...(lists.data?.length
      ? [
          {
            title: "Lists",
            slips: lists.data.map((l) => ({ to: `/contacts?list=${l.id}`, title: l.name, words: count(l.people) })),
          },
        ]
      : []),
    ...(runs.data?.length
      ? [
          {
            title: "Imports",
            slips: runs.data
              .slice(0, 6)
              .map((r) => ({ to: `/contacts/import/${r.id}`, title: r.file_name, words: r.state })),
          },
        ]
      : []),
  ];
}
