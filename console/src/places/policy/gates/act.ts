import { api, dataOf } from "../../../api/client";
import type { components } from "../../../api/schema";
import type { Draft } from "../draft/draft";
import { byFile, made } from "../writ/places";

export type Act = components["schemas"]["Act"];

/** Does something to the draft: what the service says is to be changed in its text. */
export async function act(draft: Draft, what: Act): Promise<void> {
  for (;;) {
    const { revision } = draft;
    const { changes } = dataOf(await api.POST("/api/v1/policy/act", { body: { ...draft.body(), act: what } }));
    // Places of a text that was changed meanwhile would be wrong ones: it is asked again.
    if (revision !== draft.revision) continue;
    return draft.writeAll([...byFile(changes)].map(([file, list]) => [file, made(draft.text(file), list)] as const));
  }
}
