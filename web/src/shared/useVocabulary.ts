import { useQuery } from "@tanstack/react-query";
import { api, ok } from "../api/client";

/** Everything that conditions and forms can refer to: fields, lists, tags, topics, segments … */
export const useVocabulary = (enabled = true) =>
  useQuery({ queryKey: ["vocabulary"], queryFn: () => ok(api.GET("/api/vocabulary")), enabled });
