import { useQuery } from "@tanstack/react-query";
import { queries } from "../../api/queries";
import { date, instant } from "../../shared/format";

/** The slips of the Mailings station. */
export function useMailingSlips() {
  const mailings = useQuery(queries.mailings);
  const letterheads = useQuery(queries.letterheads);
  const all = mailings.data ?? [];
  const slip = (m: (typeof all)[number]) => ({
    to: `/mailings/${m.id}`,
    title: m.name,
    words: m.paused
      ? `${m.state}, paused`
      : m.state === "planned"
        ? `planned, ${instant(m.planned_at)}`
        : m.started_at
          ? `${m.outside ? "sent elsewhere" : m.state}, ${date(m.started_at)}`
          : m.state,
  });
  const slips = [
    {
      title: "Mailings",
      slips: [
        { to: "/mailings/new", title: "New mailing" },
        { to: "/mailings/new?by=text", title: "New text message" },
        { to: "/mailings/calendar", title: "Calendar" },
        { to: "/mailings/elsewhere", title: "Sent elsewhere" },
        { to: "/mailings/reactions", title: "Reactions", words: "scores, tasks, other systems" },
        ...all.filter((m) => m.state !== "sent" && !m.template && !m.archived && m.series_id == null).map(slip),
      ],
    },
    {
      title: "Sent",
      slips: all
        .filter((m) => m.state === "sent" && !m.archived)
        .slice(0, 6)
        .map(slip),
    },
    ...(all.some((m) => m.template)
      ? [
          {
            title: "Templates",
            slips: all.filter((m) => m.template).map((m) => ({ to: `/mailings/${m.id}`, title: m.name })),
          },
        ]
      : []),
  ];
  return { slips, mailings, letterheads };
}
