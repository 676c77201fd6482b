import { useQuery } from "@tanstack/react-query";
import { api, dataOf } from "../../../api/client";
import type { components } from "../../../api/schema";
import { type Draft, MAIN } from "../draft/draft";

export type Offer = components["schemas"]["CompletionItemView"];

/** What may stand after a text that would be written at the end of the draft. */
export function useOffers(draft: Draft, before: string | null) {
  return useQuery({
    queryKey: ["offers", draft.revision, before],
    enabled: before !== null,
    queryFn: async (): Promise<Offer[]> => {
      const { source, included } = draft.body();
      const text = `${source}\n${before}`;
      const lines = text.split("\n");
      const place = { line: lines.length, column: [...(lines.at(-1) ?? "")].length + 1 };
      const body = { source: text, included, file: MAIN, ...place };
      return dataOf(await api.POST("/api/v1/policy/completion", { body })).items;
    },
    staleTime: Number.POSITIVE_INFINITY,
  });
}

/** Where a case states a fact, and where it states its value. */
export const GIVEN = 'case "x" { given ';

/** Where a rule's condition asks for a fact. */
export const WHEN = 'gate x { accept mac rule "x" { when ';
