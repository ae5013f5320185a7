import type { InfiniteData, UseInfiniteQueryResult } from "@tanstack/react-query";
import { useEffect } from "react";

/** Reads a list on until so many of its pages are there, or it is over. Whatever happens begins the
 * list's reading anew and ends that of a further page, so the page is asked for when nothing else is
 * being read, as often as it takes. Where it cannot be read, it is when the list can be again. */
export function usePages<Page>(list: UseInfiniteQueryResult<InfiniteData<Page>>, wanted: number) {
  const { hasNextPage, isFetching, isError, fetchNextPage } = list;
  const loaded = list.data?.pages.length ?? 0;
  const missing = loaded > 0 && loaded < wanted && hasNextPage;
  useEffect(() => {
    if (missing && !isFetching && !isError) void fetchNextPage();
  }, [missing, loaded, isFetching, isError, fetchNextPage]);
  return { loaded, missing };
}
