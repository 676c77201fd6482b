import { api, dataOf } from "../../../api/client";
import type { components } from "../../../api/schema";
import type { Draft } from "../draft/draft";
import { type Changed, made } from "../writ/places";

export type Act = components["schemas"]["Act"];

/** Does something to the draft: what the service says is to be changed in its text. */
export async function act(draft: Draft, what: Act): Promise<void> {
  const { changes } = dataOf(await api.POST("/api/v1/policy/act", { body: { ...draft.body(), act: what } }));
  const files = new Map<string, Changed[]>();
  for (const change of changes) {
    const { file } = change.replaces;
    files.set(file, [...(files.get(file) ?? []), change]);
  }
  draft.writeAll([...files].map(([file, list]) => [file, made(draft.text(file), list)] as const));
}
