import { quoted } from "../writ/names";

/** A comparison, as it is put together from choices. */
export interface Row {
  fact: string;
  /** What a fact's values are, as the service says: `a text`, `one of: switch, router`. */
  type: string;
  test: Test;
  value: string;
}

export type Test =
  | "is"
  | "is not"
  | "is one of"
  | "is in group"
  | "is not in group"
  | "is true"
  | "is not true"
  | "begins with"
  | "ends with"
  | "has in it"
  | "is in"
  | "is at least"
  | "is at most"
  | "is there"
  | "is not there";

/** The tests that a fact's values allow, the likeliest first. */
export function testsOf(fact: string, type: string): Test[] {
  const there: Test[] = ["is there", "is not there"];
  if (fact.endsWith(".groups")) return ["is in group", "is not in group", "has in it", ...there];
  if (type.startsWith("true or false")) return ["is true", "is not true", ...there];
  if (type.startsWith("one of")) return ["is", "is not", "is one of", ...there];
  if (type.startsWith("a set")) return ["has in it", ...there];
  if (type.startsWith("a number") || type.startsWith("a duration")) {
    return ["is", "is not", "is one of", "is in", "is at least", "is at most", ...there];
  }
  if (type.startsWith("a moment")) return ["is in", "is at least", "is at most"];
  if (type.startsWith("an address")) return ["is", "is in", "is not", ...there];
  if (type.startsWith("a MAC address")) return ["is", "is not", "is one of", ...there];
  return ["is", "is not", "is one of", "begins with", "ends with", "has in it", ...there];
}

/** Whether a test needs a value. */
export function needsValue(test: Test): boolean {
  return !["is true", "is not true", "is there", "is not there"].includes(test);
}

/** A comparison as Writ. */
export function rowText({ fact, type, test, value }: Row): string {
  const who = fact.replace(/\.groups$/, "");
  const isText = type.startsWith("a text") || type.startsWith("a set of texts");
  const literal = (text: string) => (isText && !text.trim().startsWith('"') ? quoted(text.trim()) : text.trim());
  const literals = value.split(",").map(literal).join(", ");
  switch (test) {
    case "is in group":
      return `${who} in group ${literal(value)}`;
    case "is not in group":
      return `not ${who} in group ${literal(value)}`;
    case "is true":
      return fact;
    case "is not true":
      return `not ${fact}`;
    case "is there":
      return `exists ${fact}`;
    case "is not there":
      return `not exists ${fact}`;
    case "is one of":
      return `${fact} in { ${literals} }`;
    case "is":
      return `${fact} = ${literal(value)}`;
    case "is not":
      return `${fact} != ${literal(value)}`;
    case "begins with":
      return `${fact} starts with ${literal(value)}`;
    case "ends with":
      return `${fact} ends with ${literal(value)}`;
    case "has in it":
      return `${fact} contains ${literal(value)}`;
    case "is in":
      return `${fact} in ${value.trim()}`;
    case "is at least":
      return `${fact} >= ${value.trim()}`;
    case "is at most":
      return `${fact} <= ${value.trim()}`;
  }
}

/** What a rule is made of. */
export interface RuleParts {
  title: string;
  rows: Row[];
  /** Whether all of them are wanted, or one is enough. */
  all: boolean;
  result: { what: "grant"; grants: string[] } | { what: "refuse"; text: string } | { what: "silence" };
  from: string;
  until: string;
}

/** A rule as Writ. */
export function ruleText({ title, rows, all, result, from, until }: RuleParts): string {
  const when = rows.map(rowText).join(all ? " and " : " or ");
  const then = {
    grant: () => `grant ${result.what === "grant" ? result.grants.join(", ") : ""}`,
    refuse: () => (result.what === "refuse" && result.text.trim() ? `refuse ${quoted(result.text.trim())}` : "refuse"),
    silence: () => "silence",
  }[result.what]();
  const head = ["rule", quoted(title), from && `from ${from}`, until && `until ${until}`].filter(Boolean).join(" ");
  return `${head} {\n    when ${when}\n    ${then}\n  }`;
}

/** A statement of a grant, or an entry of an access list. */
export interface Line {
  keyword: string;
  value: string;
}

/** Statements whose value is a text. */
const TEXTS = new Set(["role", "filter", "class", "message", "redirect"]);

/** A grant as Writ. */
export function grantText(name: string, lines: readonly Line[]): string {
  const said = lines.map(({ keyword, value }) => {
    const text = value.trim();
    const bare = !TEXTS.has(keyword) || text.startsWith('"');
    const vlan = (keyword === "vlan" || keyword === "voice-vlan") && /[^\d\s"]/.test(text) && !/^\S+\s+tagged$/.test(text);
    return `  ${keyword} ${bare && !(vlan && !text.startsWith('"')) ? text : quoted(text)}`;
  });
  return `grant ${name} {\n${said.join("\n")}\n}`;
}

/** What an access list lets through, or not. */
export interface Entry {
  action: "permit" | "deny";
  protocol: string;
  to: string;
  ports: string;
}

/** An access list as Writ. */
export function aclText(name: string, entries: readonly Entry[]): string {
  const said = entries.map(({ action, protocol, to, ports }) => {
    const port = ports.trim() && protocol !== "ip" ? ` port ${ports.trim()}` : "";
    return `  ${action} ${protocol} to ${to.trim() || "any"}${port}`;
  });
  return `acl ${name} {\n${said.join("\n")}\n}`;
}

/** A fact that a request had, as a case states it. */
export interface Stated {
  name: string;
  value: string;
  /** Whether the policy that decided asks for it. */
  asked: boolean;
}

/** A comparison that is true of a request; those that few want are shown when they are asked for. */
export interface Offered {
  row: Row;
  first: boolean;
}

/** Who, and where: what people name in a rule whether the policy asked for it before or not. */
const WHO = ["request.mac", "user.name", "machine.name", "nas.name", "nas.site", "request.port", "request.ssid"];

/** Comparisons that are true of a request. */
export function offeredOf(facts: readonly Stated[]): Offered[] {
  return facts.flatMap((fact) => {
    const first = fact.asked || WHO.includes(fact.name);
    return rowsOf(fact).map((row) => ({ row, first }));
  });
}

/** The comparisons that are true of a fact that a request had: one for each group. */
export function rowsOf({ name: fact, value }: Omit<Stated, "asked">): Row[] {
  // When it was asked is true of that request alone.
  if (fact === "time.now") return [];
  const members = value.startsWith("{") ? membersOf(value) : null;
  if (members && fact.endsWith(".groups")) {
    return members.map((group) => ({ fact, type: "a set of texts", test: "is in group" as const, value: group }));
  }
  if (members) return members.map((one) => ({ fact, type: "a set", test: "has in it" as const, value: one }));
  if (value === "true") return [{ fact, type: "true or false", test: "is true", value: "" }];
  if (value === "false") return [{ fact, type: "true or false", test: "is not true", value: "" }];
  return [{ fact, type: value.startsWith('"') ? "a text" : "one of", test: "is", value }];
}

function membersOf(set: string): string[] {
  return set.match(/"(?:\\.|[^"\\])*"|[^\s,{}]+/g) ?? [];
}
