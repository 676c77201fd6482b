import { Text } from "@codemirror/state";
import { expect, it } from "vitest";
import { difference, made, offsetOf, placeOf, rangeOf } from "./places";

// A ship takes two units, and is one character.
const doc = Text.of(["first", 'grant "a🚢b🚢" c', "", "last"]);

it("places are counted in characters, and found again", () => {
  for (let offset = 0; offset <= doc.length; offset++) {
    if (/[\udc00-\udfff]/.test(doc.sliceString(offset, offset + 1))) continue;
    expect(offsetOf(doc, placeOf(doc, offset))).toBe(offset);
  }
  expect(offsetOf(doc, { line: 99, column: 99 })).toBe(doc.length);
  expect(offsetOf(doc, { line: 0, column: 0 })).toBe(0);
});

it("a stretch may have several lines and characters of two units", () => {
  const text = (line: number, column: number, length: number) => {
    const { from, to } = rangeOf(doc, { line, column, length });
    return doc.sliceString(from, to);
  };
  expect(text(2, 7, 6)).toBe('"a🚢b🚢"');
  expect(text(2, 9, 1)).toBe("🚢");
  expect(text(1, 1, 11)).toBe("first\ngrant");
  expect(text(2, 7, 9)).toBe('"a🚢b🚢" c\n');
  expect(text(4, 1, 99)).toBe("last");
});

it("one change makes a text of another", () => {
  for (const [before, after] of [
    ["", "abc"],
    ["abc", ""],
    ["aaa", "aa"],
    ["one two three", "one 2 three"],
    ["ab", "ba"],
  ] as const) {
    const change = difference(before, after);
    expect(change && before.slice(0, change.from) + change.insert + before.slice(change.to)).toBe(after);
  }
  expect(difference("same", "same")).toBeNull();
});

it("several changes are made at once", () => {
  const at = (line: number, column: number, length: number, text: string) => ({ replaces: { line, column, length }, text });
  expect(made("a🚢b\nc\nd", [at(1, 2, 1, "ship"), at(2, 1, 2, ""), at(3, 2, 0, "!")])).toBe("ashipb\nd!");
});
