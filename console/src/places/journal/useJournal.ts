import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { api, dataOf } from "../../api/client";
import type { Filter } from "./entries";

const PAGE = 100;

/** The journal from newest to oldest, a page at a time. */
export function useJournal(filter: Filter) {
  return useInfiniteQuery({
    queryKey: ["journal", filter],
    queryFn: async ({ pageParam }) => {
      const query = { ...filter, limit: PAGE, ...(pageParam ? { before: pageParam } : {}) };
      return dataOf(await api.GET("/api/v1/journal", { params: { query } })).entries;
    },
    initialPageParam: "",
    getNextPageParam: (page) => (page.length === PAGE ? page.at(-1)?.id : undefined),
    placeholderData: keepPreviousData,
    // What is new comes by itself, see useLive.
    staleTime: Number.POSITIVE_INFINITY,
    refetchOnMount: "always",
  });
}
