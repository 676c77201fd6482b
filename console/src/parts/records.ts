/** What a record is called where its past is asked for: person/harbour/ida.marsh. */
export function recordPath(kind: string, ...parts: string[]): string {
  return [kind, ...parts.map((part) => part.replaceAll("%", "%25").replaceAll("/", "%2F"))].join("/");
}

/** The words of a text, between spaces and commas. */
export function words(text: string): string[] {
  return text.split(/[\s,]+/).filter(Boolean);
}

/** A time as a form has it (UTC, to the minute), or nothing. */
export function timeField(at: string | null | undefined): string {
  return at ? at.slice(0, 16) : "";
}

/** What a form has as the service takes it; empty is never. */
export function timeOf(field: string): string {
  return field ? `${field}:00Z` : "";
}
