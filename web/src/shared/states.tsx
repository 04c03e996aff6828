import type { UseQueryResult } from "@tanstack/react-query";
import type { ReactNode } from "react";

/** Loading keeps the layout still; a failure says what to do. */
export function Loaded<T>({ query, children }: { query: UseQueryResult<T>; children: (data: T) => ReactNode }) {
  if (query.isError)
    return (
      <p className="note bad" role="alert">
        {query.error.message}
      </p>
    );
  if (query.data === undefined)
    return (
      <p className="soft" style={{ minHeight: 200 }}>
        Reading …
      </p>
    );
  return <>{children(query.data)}</>;
}

/** The sentence of a failed action. */
export function Failure({ error }: { error: Error | null }) {
  return error ? (
    <p className="note bad" role="alert">
      {error.message}
    </p>
  ) : null;
}
