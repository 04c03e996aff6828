import { MutationCache, QueryClient } from "@tanstack/react-query";
import { onChange } from "./client";
import { type Resource, stale } from "./stale";

/** What changed since the cache was last told. */
const changed = new Set<Resource>();
/** The same of what was deleted: its page is left first, since there is nothing more to ask about it. */
const gone = new Set<Resource>();
onChange((method, path) => stale(method, path).forEach((r) => (method === "DELETE" ? gone : changed).add(r)));

/**
 * Asks again for what changed. A first answer that is still on its way was asked for before the change, and would
 * be taken for one from after it, since there is no older one to call stale: it is asked for again.
 */
async function again(queryKey?: [Resource]) {
  await cache.cancelQueries({ queryKey, predicate: (q) => q.state.data === undefined });
  await cache.invalidateQueries({ queryKey });
}

/** Asks again for what a change made stale; a failed one may have been half done. */
async function tell(stale: Set<Resource>) {
  const now = [...stale];
  stale.clear();
  await Promise.all(now.map((r) => again([r])));
}

/** What pages asked the server, and its answers. */
export const cache: QueryClient = new QueryClient({
  defaultOptions: { queries: { retry: false, refetchOnWindowFocus: false } },
  mutationCache: new MutationCache({
    onSuccess: () => tell(changed),
    onError: () => tell(changed),
    onSettled: () => tell(gone),
  }),
});

/** Long work has ended, or something happened outside this page: anything may have changed. */
export function everything() {
  changed.clear();
  gone.clear();
  void again();
}
