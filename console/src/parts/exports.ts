/** A cell as RFC 4180 has it; one that a spreadsheet would run is written so that it does not. */
export function cell(value: unknown): string {
  const text = Array.isArray(value) ? value.join(";") : value === null || value === undefined ? "" : String(value);
  const safe = /^[=+\-@\t\r]/.test(text) ? `'${text}` : text;
  return /[",\n\r]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}

/** Records as CSV of these fields, or of fields within them: `attributes.asset-class`. */
export function csv(records: readonly object[], fields: readonly string[]): string {
  const within = (record: unknown, part: string) => (record as Record<string, unknown> | null | undefined)?.[part];
  const value = (record: object, field: string) => cell(field.split(".").reduce<unknown>(within, record));
  const lines = records.map((record) => fields.map((field) => value(record, field)).join(","));
  return `${[fields.join(","), ...lines].join("\r\n")}\r\n`;
}

/** Hands a text to the browser as a file. */
export function save(name: string, kind: string, text: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type: kind }));
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}
