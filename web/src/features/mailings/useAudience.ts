import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useDeferredValue } from "react";
import { api, ok } from "../../api/client";
import type { Draft } from "./draft";

/** Who a draft's audience is at an instant, asked again when what decides it changes. */
export function useAudience(d: Draft, at: number | null, mailing: number | null) {
  const draft = useDeferredValue(d);
  const { list_id, segment_id, also, without, schedule, letterhead_id } = draft;
  return useQuery({
    queryKey: ["audience", { list_id, segment_id, also, without, schedule, letterhead_id }, at, mailing],
    queryFn: () => ok(api.POST("/api/audience", { body: { draft, at, mailing } })),
    placeholderData: keepPreviousData,
    enabled: letterhead_id > 0,
  });
}
