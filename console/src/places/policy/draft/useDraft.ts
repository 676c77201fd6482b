import { useQuery } from "@tanstack/react-query";
import { useEffect, useSyncExternalStore } from "react";
import { api, CallError, dataOf } from "../../../api/client";
import { queries } from "../../../queries";
import { type Calls, Draft, type Shelf } from "./draft";

const calls: Calls = {
  draft: async () => {
    try {
      return dataOf(await api.GET("/api/v1/policy/draft"));
    } catch (error) {
      // Whoever may only read has none.
      if (error instanceof CallError && (error.status === 404 || error.status === 403)) return null;
      throw error;
    }
  },
  active: async () => dataOf(await api.GET("/api/v1/policy")).edition,
  keep: async (body, version) => {
    const params = version > 0 ? { header: { "If-Match": `"${version}"` } } : {};
    return dataOf(await api.PUT("/api/v1/policy/draft", { params, body }));
  },
  forget: async (version) => {
    try {
      await api.DELETE("/api/v1/policy/draft", { params: { header: { "If-Match": `"${version}"` } } });
    } catch (error) {
      // Another window was faster: it forgot the draft, or goes on writing, and what it wrote stays.
      if (!(error instanceof CallError && (error.status === 404 || error.status === 412))) throw error;
    }
  },
};

/** One for each window, which outlives a reload of its page. */
function shelfOf(name: string): Shelf {
  const key = `regnant draft of ${name}`;
  return {
    read: () => sessionStorage.getItem(key),
    write: (text) => sessionStorage.setItem(key, text),
    clear: () => sessionStorage.removeItem(key),
  };
}

const KEY = ["the draft of this window"];

// Signing out forgets what was asked of the service; a draft must not be kept as that of whoever signs in next.
queries.getQueryCache().subscribe(({ type, query }) => {
  if (type === "removed" && query.queryKey[0] === KEY[0] && query.state.data instanceof Draft) query.state.data.end();
});

/** The draft of whoever is signed in: one for all pages of this window. */
export function useDraft(name: string) {
  return useQuery({
    queryKey: [...KEY, name],
    enabled: name !== "",
    queryFn: () => Draft.open(calls, shelfOf(name)),
    staleTime: Number.POSITIVE_INFINITY,
    gcTime: Number.POSITIVE_INFINITY,
    // It is no record of the service, to be compared with what was there before.
    structuralSharing: false,
  });
}

/** After an activation: what decides now is no draft any more. */
export async function renewDraft(draft: Draft) {
  // The edition decides, whether it can be read now or not: where it cannot, the page asks again.
  await draft.activated().catch(() => undefined);
  await queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== KEY[0] });
}

/** Sees whether another edition decides than the draft knows of. */
export function useActiveSeen(draft: Draft) {
  const newest = useQuery({
    queryKey: ["editions", "newest"],
    queryFn: async () => dataOf(await api.GET("/api/v1/policy/editions")).editions.find((one) => one.state === "active"),
    refetchInterval: 30_000,
  });
  const number = newest.data?.number;
  useEffect(() => {
    // What was asked before an activation of this window is older than what the draft knows.
    if (number !== undefined && number > draft.active) void draft.saw(number);
  }, [number, draft]);
}

/** Draws anew with each change of the text, or of what became of it. */
export function useDraftChanges(draft: Draft): number {
  useSyncExternalStore(draft.subscribe, () => draft.kept);
  return useSyncExternalStore(draft.subscribe, () => draft.revision);
}

/** A page that ends loses nothing: what is typed goes on the shelf, and whoever closes the window is asked. */
export function useKeptAtTheEnd(draft: Draft) {
  useEffect(() => {
    const shelve = () => draft.shelve();
    const ask = (event: BeforeUnloadEvent) => {
      const shelved = draft.shelve();
      // The shelf goes with the window, and what is typed is kept a moment later where it can be.
      if (!shelved || draft.kept.state === "unkept" || draft.kept.state === "elsewhere") event.preventDefault();
    };
    window.addEventListener("pagehide", shelve);
    window.addEventListener("beforeunload", ask);
    return () => {
      window.removeEventListener("pagehide", shelve);
      window.removeEventListener("beforeunload", ask);
    };
  }, [draft]);
}
