import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, dataOf } from "../../../api/client";
import type { Draft } from "../draft/draft";
import { useRested } from "../draft/useRested";
import { useDraftChanges } from "../draft/useDraft";

/** What the draft declares, in the order of its text. */
export function useOutline(draft: Draft) {
  const revision = useRested(useDraftChanges(draft));
  return useQuery({
    queryKey: ["outline of the draft", draft.madeFrom, revision],
    queryFn: async ({ signal }) => dataOf(await api.POST("/api/v1/policy/outline", { body: draft.body(), signal })).items,
    placeholderData: keepPreviousData,
    staleTime: Number.POSITIVE_INFINITY,
    gcTime: 1_000,
  });
}
