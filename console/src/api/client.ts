import createClient, { type Middleware } from "openapi-fetch";
import type { components, paths } from "./schema";

export type Entry = components["schemas"]["EntryView"];
export type Fragment = components["schemas"]["FragmentView"];
export type Detail = components["schemas"]["DetailView"];
export type Station = components["schemas"]["StationView"];
export type Active = components["schemas"]["ActiveView"];

/** A call that the service refused, with its sentence. */
export class CallError extends Error {
  constructor(
    readonly status: number,
    message: string,
    /** Whether the code of a second factor is wanted too. */
    readonly needsCode = false,
    /** The stores whose secret is wanted anew. */
    readonly wantsSecrets: string[] = [],
  ) {
    super(message);
  }
}

const told: Middleware = {
  async onResponse({ response }) {
    if (response.ok) return;
    const body: { error?: string; needs_code?: boolean; wants_secrets?: string[] } = await response.json().catch(() => ({}));
    const why = body.error ?? `The service answered ${response.status}.`;
    throw new CallError(response.status, why, body.needs_code, body.wants_secrets);
  },
  onError() {
    return new CallError(0, "The service cannot be reached. Nothing was changed; try again when it runs.");
  },
};

// The fetch of now: a test may have put another in its place.
export const api = createClient<paths>({ fetch: (request) => fetch(request) });
api.use(told);

/** What a record was like when it was read: whoever changes it says so. */
export function etagOf({ response }: { response: Response }): string {
  const etag = response.headers.get("etag");
  if (!etag) throw new CallError(0, "The service did not say which version of this it showed. Load the page anew.");
  return etag;
}

/** The header by which a change finds what its author saw in a list: this one, or none. */
export function over(seen: { etag?: string | null } | undefined) {
  return seen?.etag ? { "If-Match": seen.etag } : { "If-None-Match": "*" };
}

/** The data of a call; a refused call has thrown before. */
export function dataOf<T>(result: { data?: T }): T {
  if (result.data === undefined) throw new CallError(0, "The service answered nothing.");
  return result.data;
}
