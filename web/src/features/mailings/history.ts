import { queryOptions } from "@tanstack/react-query";
import { api, ok, post, type Schemas } from "../../api/client";

export type HistoryFile = Schemas["HistoryFile"];

/** Files of mailings that another system sent. */
export const files = queryOptions({ queryKey: ["history"], queryFn: () => ok(api.GET("/api/history")) });

export const file = (id: number) =>
  queryOptions({
    queryKey: ["history", id],
    queryFn: () => ok(api.GET("/api/history/{id}", { params: { path: { id } } })),
  });

export const outsideMailings = queryOptions({
  queryKey: ["history", "mailings"],
  queryFn: () => ok(api.GET("/api/outside-mailings")),
});

/** Uploads a file as it is; the browser streams it. */
export async function uploadHistory(of: File): Promise<HistoryFile> {
  const path = `/api/history?name=${encodeURIComponent(of.name)}`;
  return (await post(path, of, "The file was refused.")).json() as Promise<HistoryFile>;
}

/** What a file is at, in words. */
export const STATE: Record<string, string> = {
  staged: "to be looked through",
  checked: "looked through",
  applying: "being taken in",
  applied: "taken in",
  cancelled: "stopped",
  undoing: "being taken back",
  undone: "taken back",
};
