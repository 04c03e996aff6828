import type { UseInfiniteQueryResult } from "@tanstack/react-query";

/** Under a list that comes a page at a time: the next page, and all of it as a file. */
export function More({ pages, csv, all }: { pages: UseInfiniteQueryResult; csv: string; all: string }) {
  return (
    <p>
      {pages.hasNextPage && (
        <button className="plain" disabled={pages.isFetching} onClick={() => void pages.fetchNextPage()}>
          Show more
        </button>
      )}{" "}
      <a href={csv}>{all}</a>
    </p>
  );
}
