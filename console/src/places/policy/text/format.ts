import { api, dataOf } from "../../../api/client";
import { type Draft, MAIN } from "../draft/draft";

/** The draft laid out, file by file, and the files of which no words can be made. */
export async function formatted(draft: Draft): Promise<{ texts: [string, string][]; unread: string[] }> {
  const { source, included, unread } = dataOf(await api.POST("/api/v1/policy/format", { body: draft.body() }));
  return { texts: [[MAIN, source], ...Object.entries(included)], unread };
}
