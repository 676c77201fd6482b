import type { components } from "../../../api/schema";
import { quoted } from "../writ/names";

/** A case of facts, and of what came of them. */
export function caseText(title: string, facts: string, answer: components["schemas"]["AnswerView"]): string {
  // What a gate that is watched gives in the place of a refusal is no decision of its rules.
  const granted = answer.outcome === "granted" ? `grant ${answer.grants.join(", ")}` : "refuse";
  const expect = answer.outcome === "silence" ? "silence" : granted;
  const by = answer.by_rule ? ` by ${quoted(answer.by)}` : answer.by === "otherwise" ? " by otherwise" : "";
  return `case ${quoted(title.trim())} {\n  given ${facts.trim().replace(/,$/, "")}\n  expect ${expect}${by}\n}`;
}
