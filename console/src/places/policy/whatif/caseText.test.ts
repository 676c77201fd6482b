import { expect, it } from "vitest";
import type { components } from "../../../api/schema";
import { parser } from "../writ/writ.grammar";
import { caseText } from "./caseText";

const answer = (some: Partial<components["schemas"]["AnswerView"]>) => ({
  policy: "edition 1",
  passed_gates: [],
  outcome: "refused",
  by: "otherwise",
  by_rule: false,
  grants: [],
  says: [],
  rules: [],
  more_rules: 0,
  ...some,
});

it("a case says what was tried and what came of it", () => {
  const granted = answer({ outcome: "granted", by: 'The "quay"', by_rule: true, grants: ["crew", "cranes"] });
  const text = caseText(" Cranes ", "device.known = true,\n", granted);
  expect(text).toBe('case "Cranes" {\n  given device.known = true\n  expect grant crew, cranes by "The \\"quay\\""\n}');
  expect(parser.parse(text).toString()).not.toContain("⚠");
});

it("what is watched was refused, and what was undetermined has no rule to name", () => {
  const observed = answer({ outcome: "observed", grants: ["holding"] });
  expect(caseText("x", "a.b = 1", observed)).toContain("expect refuse by otherwise");
  expect(caseText("x", "a.b = 1", answer({ outcome: "silence", by: "a store did not answer" }))).toContain("expect silence\n");
});
