import { useQuery } from "@tanstack/react-query";
import { queries } from "../api/queries";

/** Everything that conditions and forms can refer to: fields, lists, tags, topics, segments … */
export const useVocabulary = (enabled = true) => useQuery({ ...queries.vocabulary, enabled });
