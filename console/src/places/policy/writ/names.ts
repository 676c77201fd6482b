/** Something that a policy declares. */
export interface Item {
  kind: string;
  name: string;
  /** The gate around a rule. */
  gate?: string | null;
}

/** What a text in quotes says. */
export function unquoted(text: string): string {
  if (!text.startsWith('"')) return text;
  return text.slice(1, -1).replace(/\\(.)/g, (_, c: string) => (c === "n" ? "\n" : c));
}

/** A text in quotes, as a policy has it. */
export function quoted(text: string): string {
  return `"${text.replace(/[\\"]/g, "\\$&").replace(/\n/g, "\\n")}"`;
}

/** The address of an item within the policy's page; gates may have rules of the same title. */
export function anchor(item: Item): string {
  return [item.kind, item.gate, item.name].filter(Boolean).join(" ");
}
