import { expect, it } from "vitest";
import { findLines, MOST_FOUND } from "./find";

it("finds a text in all files, whatever its case, by line and character", () => {
  const files = [
    ["main.writ", "grant crew {\n  vlan 20 }\n"],
    ["a.writ", '  🚢 rule "Crew"'],
  ] as const;
  expect(findLines(files, "crew")).toEqual([
    { file: "main.writ", line: 1, column: 7, text: "grant crew {" },
    { file: "a.writ", line: 1, column: 11, text: '🚢 rule "Crew"' },
  ]);
  expect(findLines(files, "")).toEqual([]);
  expect(findLines([["main.writ", "a\n".repeat(2 * MOST_FOUND)]], "a")).toHaveLength(MOST_FOUND);
});
