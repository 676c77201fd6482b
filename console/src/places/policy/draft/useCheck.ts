import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, dataOf } from "../../../api/client";
import type { Draft } from "./draft";
import { useDraftChanges } from "./useDraft";
import { useRested } from "./useRested";

/** What the check finds in the draft as it is now, or where it is to be activated, and of which revision that is. */
export function useCheck(draft: Draft, to_activate = false) {
  const revision = useRested(useDraftChanges(draft));
  return useQuery({
    queryKey: ["check of the draft", draft.madeFrom, revision, to_activate],
    queryFn: async ({ signal }) => {
      const now = draft.revision;
      const params = { query: { to_activate } };
      const report = dataOf(await api.POST("/api/v1/policy/check", { params, body: draft.body(), signal }));
      return { report, revision: now };
    },
    placeholderData: keepPreviousData,
    staleTime: Number.POSITIVE_INFINITY,
    gcTime: 1_000,
  });
}
