import { readFileSync } from "node:fs";
import type { SyntaxNode } from "@lezer/common";
import { expect, it } from "vitest";
import { anchor, type Item, quoted, unquoted } from "./names";
import { parser } from "./writ.grammar";

const CRATES = `${process.cwd()}/../crates`;
const KINDS = ["Zone", "Include", "Define", "List", "Acl", "Grant", "Gate", "Rule", "Case"];

/** What the grammar sees declared, in the order of the text. */
function outline(text: string): (Item & { from: number })[] {
  const found: (Item & { from: number })[] = [];
  let gate: string | undefined;
  parser.parse(text).iterate({
    enter: ({ name, node, from }) => {
      if (!KINDS.includes(name)) return name === "Policy" || name === "Block";
      const item = { kind: name === "Acl" ? "access list" : name.toLowerCase(), name: nameOf(node, text), from };
      if (name === "Gate") gate = item.name;
      found.push(name === "Rule" && gate !== undefined ? { ...item, gate } : item);
      return name === "Gate";
    },
  });
  return found;
}

function nameOf(node: SyntaxNode, text: string): string {
  const name = node.getChild("Declared") ?? node.getChild("Title") ?? (node.name === "Include" ? node.getChild("Text") : null);
  return name ? unquoted(text.slice(name.from, name.to)) : "";
}

// What the service's parser says of each policy of the corpus.
const corpus = readFileSync(`${CRATES}/policy/tests/corpus.txt`, "utf8").split(/\n(?! |$)/);

it.each(corpus.map((entry) => entry.split("\n")))("%s, as the service reads it", (head, ...lines) => {
  const [path = "", state] = (head ?? "").split(" ");
  const text = readFileSync(`${CRATES}/${path.startsWith("campus/") ? path : `policy/tests/${path}`}`, "utf8");
  const wrong: string[] = [];
  const tree = parser.parse(text);
  tree.iterate({
    enter: ({ type, from, to }) => {
      if (type.isError) wrong.push(`${text.slice(0, from).split("\n").length}: ${text.slice(from, to)}`);
    },
  });
  if (state === "read") expect(wrong).toEqual([]);
  if (state === "unreadable") expect(wrong).not.toEqual([]);
  const line = (at: number) => text.slice(0, at).split("\n").length;
  const told = outline(text).map((item) => `  ${line(item.from)} ${item.kind} ${item.name}`);
  if (state === "read") expect(told).toEqual(lines.filter((text) => text !== ""));
});

it("a name that is a word of the language is a name where a name stands", () => {
  const text = "grant grant { vlan 20 }\ngate gate { otherwise grant grant }";
  expect(outline(text).map(anchor)).toEqual(["grant grant", "gate gate"]);
  expect(parser.parse(text).toString()).toContain("Otherwise(Keyword,Keyword,Name(Word))");
});

it("whatever is typed, the outline goes on", () => {
  const text = 'grant crew { vlan }\n= = {\ngate a { rule "One" { when } otherwise }\ncase "x';
  expect(outline(text).map(anchor)).toEqual(expect.arrayContaining(["grant crew", "gate a", "rule a One"]));
  for (let at = 0; at < text.length; at++) outline(text.slice(0, at));
});

it("a text says what stands in its quotes", () => {
  expect(unquoted('"a \\"b\\" \\\\ \\n"')).toBe('a "b" \\ \n');
  expect(unquoted("bare")).toBe("bare");
  expect(unquoted(quoted('a "b" \\ \n'))).toBe('a "b" \\ \n');
});
