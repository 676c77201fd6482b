import type { components } from "../../../api/schema";
import { quoted } from "../writ/names";

/** A case of facts, and of what came of them. */
export function caseText(title: string, facts: string, answer: components["schemas"]["AnswerView"]): string {
  const expect =
    answer.grants.length > 0 ? `grant ${answer.grants.join(", ")}` : answer.outcome === "silence" ? "silence" : "refuse";
  const by = answer.by_rule ? ` by ${quoted(answer.by)}` : answer.by === "otherwise" ? " by otherwise" : "";
  return `case ${quoted(title.trim())} {\n  given ${facts.trim().replace(/,$/, "")}\n  expect ${expect}${by}\n}`;
}
