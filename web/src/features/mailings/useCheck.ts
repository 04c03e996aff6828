import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useDeferredValue } from "react";
import { api, ok } from "../../api/client";
import type { Draft } from "./draft";

/** What the message check says of a draft, as one writes. */
export function useCheck(draft: Draft, mailing: number | null) {
  const late = useDeferredValue(draft);
  return useQuery({
    queryKey: ["check", mailing, late],
    queryFn: () => ok(api.POST("/api/message-check", { params: { query: { mailing } }, body: late })),
    placeholderData: keepPreviousData,
    enabled: late.letterhead_id > 0,
  });
}
