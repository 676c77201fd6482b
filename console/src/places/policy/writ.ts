/** A piece of a line of Writ and what it is. */
export interface Piece {
  text: string;
  kind: "plain" | "keyword" | "text" | "comment" | "fact";
}

/** Something that a policy declares, and the line where it stands. */
export interface Item {
  kind: "gate" | "rule" | "grant" | "acl" | "define" | "list" | "case";
  name: string;
  line: number;
  /** The gate around a rule. */
  gate?: string;
}

const KEYWORDS = new Set(
  (
    "zone include define list acl grant gate case extends when accept present certificate trust revocation remember resume up never " +
    "identify lookup bound of use stale in as rule always off copied until observe undetermined tell otherwise refuse silence continue next " +
    "given expect by with permit deny from to port and or not exists group contains starts ends matches any of all"
  ).split(" "),
);

const PIECE = /#.*|"(?:\\.|[^"\\])*"|[\w.:$@-]+(?:\/\d+)?|\s+|./g;

/** Splits a line for colouring; it never needs the lines before it. */
export function pieces(line: string): Piece[] {
  return (line.match(PIECE) ?? []).map((text) => ({ text, kind: kindOf(text) }));
}

function kindOf(text: string): Piece["kind"] {
  if (text.startsWith("#")) return "comment";
  if (text.startsWith('"')) return "text";
  if (KEYWORDS.has(text)) return "keyword";
  if (/^(request|nas|time|user|machine|device|claimed|certificate|tls)\.[A-Za-z-]+$/.test(text)) return "fact";
  return "plain";
}

/** What a policy declares, in the order of its lines. */
export function outline(source: string): Item[] {
  const found: Item[] = [];
  let gate: string | undefined;
  source.split("\n").forEach((text, index) => {
    const match =
      /^\s*(gate|rule|grant|acl|define|list|case)\s+(?:"((?:\\.|[^"\\])*)"|([\w.-]+))\s*(?:\{|=|extends|always|off|copied|from|until)/.exec(
        text,
      );
    const name = match?.[2] ?? match?.[3];
    if (!match || !name) return;
    const kind = match[1] as Item["kind"];
    if (kind === "gate") gate = name;
    found.push({ kind, name, line: index + 1, ...(kind === "rule" && gate ? { gate } : {}) });
  });
  return found;
}

/** The address of an item within the policy's page; gates may have rules of the same title. */
export function anchor(item: Item): string {
  return [item.kind, item.gate, item.name].filter(Boolean).join(" ");
}
