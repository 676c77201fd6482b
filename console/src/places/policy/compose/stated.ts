import { parser } from "../writ/writ.grammar";
import type { Stated } from "./writ";

/** The facts that a case states, as they are written. */
export function statedIn(text: string): Stated[] {
  const found: Stated[] = [];
  parser.parse(text).iterate({
    enter: ({ name, node }) => {
      if (name !== "Given") return;
      const fact = node.firstChild;
      const value = node.lastChild;
      if (!fact || !value || fact === value) return;
      const written = text.slice(fact.to, value.to).replace(/^\s*=\s*/, "");
      found.push({ fact: text.slice(fact.from, fact.to), value: written.trim() });
    },
  });
  return found;
}
