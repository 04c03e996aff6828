import { useQuery } from "@tanstack/react-query";
import { api, ok } from "../../api/client";
import { count, instant } from "../../shared/format";

/** The slips of the Clearance station: coming mailings, then the rules. */
export function useClearanceSlips() {
  const mailings = useQuery({ queryKey: ["mailings"], queryFn: () => ok(api.GET("/api/mailings")) });
  const rules = useQuery({ queryKey: ["rules"], queryFn: () => ok(api.GET("/api/rules")) });
  const suppression = useQuery({ queryKey: ["suppression"], queryFn: () => ok(api.GET("/api/suppression")) });
  const coming = (mailings.data ?? []).filter((m) => m.state !== "sent");
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
        {
          to: "/clearance/rules",
          title: "Cap",
          words: rules.data ? (rules.data.cap_in_force ? "in force" : "not in force") : "",
        },
        {
          to: "/clearance/suppression",
          title: "Suppression",
          words: suppression.data ? `${count(suppression.data.length)} lines` : "",
        },
        { to: "/clearance/consent", title: "Consent" },
      ],
    },
  ];
  return { slips, first: coming[0]?.id, ready: mailings.isSuccess };
}
