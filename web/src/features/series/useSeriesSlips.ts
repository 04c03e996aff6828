import { useQuery } from "@tanstack/react-query";
import { queries } from "../../api/queries";
import { plural } from "../../shared/format";

/** The slips of the Series station. */
export function useSeriesSlips() {
  const series = useQuery(queries.series);
  const all = series.data ?? [];
  const slip = (s: (typeof all)[number]) => ({
    to: `/series/${s.id}`,
    title: s.name,
    words: s.state === "running" ? `${s.paused ? "paused" : "running"}, ${s.inside} inside` : s.state,
  });
  const slips = [
    { title: "Series", slips: [{ to: "/series", title: "All series", words: plural(all.length, "series", "series") }] },
    { title: "In use", slips: all.filter((s) => s.state !== "ended").map(slip) },
    ...(all.some((s) => s.state === "ended")
      ? [{ title: "Ended", slips: all.filter((s) => s.state === "ended").map(slip) }]
      : []),
  ];
  return { slips, series };
}
