import { QueryCache, QueryClient, queryOptions, useQuery } from "@tanstack/react-query";
import { api, CallError, dataOf } from "./api/client";

/** The first of a kind, as many as people look through; a filter finds the others. */
export const MOST = 5_000;

/** Who is signed in; a call with status 401 means nobody. */
export const session = queryOptions({
  queryKey: ["session"],
  queryFn: async () => dataOf(await api.GET("/api/v1/session")),
  staleTime: 60_000,
});

/** What whoever is signed in may do: engineer, helpdesk or auditor. */
export function useRole(): string {
  return useQuery(session).data?.role ?? "";
}

/** Whether a call failed because nobody is signed in, or no longer. */
export function isSignedOut(error: unknown): boolean {
  return error instanceof CallError && error.status === 401;
}

export const queries = new QueryClient({
  queryCache: new QueryCache({
    // A session that ended while a page was open: sign in, and come back to it.
    onError: (error, query) => {
      if (!isSignedOut(error) || query.queryKey[0] === "session") return;
      const back = window.location.pathname + window.location.search;
      window.location.assign(`/sign-in?back=${encodeURIComponent(back)}`);
    },
  }),
  defaultOptions: {
    queries: {
      // A refusal stays a refusal; only what did not reach the service is tried again.
      retry: (count, error) => count < 2 && !(error instanceof CallError && error.status > 0),
      staleTime: 5_000,
    },
  },
});
