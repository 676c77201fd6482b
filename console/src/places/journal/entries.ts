import type { Entry } from "../../api/client";

export const OUTCOMES = ["granted", "observed", "refused", "silence", "unfinished", "unheard", "told", "accounting"] as const;
export type Outcome = (typeof OUTCOMES)[number];

/** What the reader wants to see; it stands in the address bar. */
export interface Filter {
  q?: string;
  /** Outcomes, with commas between them; all where there is none. */
  outcome?: string;
}

export function outcomesOf(filter: Filter): Outcome[] {
  const wanted = filter.outcome?.split(",") ?? [];
  return OUTCOMES.filter((known) => wanted.includes(known));
}

export function readFilter(search: Record<string, unknown>): Filter {
  const outcome = outcomesOf({ outcome: String(search.outcome ?? "") }).join(",");
  return {
    ...(search.q !== undefined && search.q !== "" ? { q: String(search.q) } : {}),
    ...(outcome ? { outcome } : {}),
  };
}

export function sentenceOf(entry: Entry): string {
  return entry.sentence.map((part) => part.text).join("");
}

/** Whether a filter lets an entry through, as the service would say. */
export function matches(entry: Entry, filter: Filter): boolean {
  const sentence = sentenceOf(entry).toLowerCase();
  const words = (filter.q ?? "").toLowerCase().split(/\s+/).filter(Boolean);
  const outcomes: string[] = outcomesOf(filter);
  return (outcomes.length === 0 || outcomes.includes(entry.outcome)) && words.every((word) => sentence.includes(word));
}

/** Newer entries put before older ones; one that comes again is replaced in its place. */
export function merge(list: Entry[], fresh: Entry[]): Entry[] {
  const merged = [...list];
  for (const entry of fresh) {
    const at = merged.findIndex((known) => known.id === entry.id);
    if (at >= 0) {
      merged[at] = entry;
      continue;
    }
    const before = merged.findIndex((known) => known.id < entry.id);
    merged.splice(before < 0 ? merged.length : before, 0, entry);
  }
  return merged;
}

/** Entries that would change what stands on the page, rather than add to its top. */
export function updatesOf(list: Entry[], fresh: Entry[]): Entry[] {
  const shown = new Set(list.map((entry) => entry.id));
  return fresh.filter((entry) => shown.has(entry.id));
}

export function toCsv(entries: Entry[]): string {
  // A cell that begins like a formula would be run by a spreadsheet.
  const cell = (text: string) => `"${text.replace(/^[=+\-@\t\r]/, "'$&").replaceAll('"', '""')}"`;
  const row = (entry: Entry) => [entry.id, entry.at, entry.outcome, entry.nas ?? "", entry.reason, sentenceOf(entry)];
  const head = ["id", "at", "outcome", "nas", "reason", "sentence"];
  return [head, ...entries.map(row)].map((cells) => cells.map(cell).join(",")).join("\r\n");
}
