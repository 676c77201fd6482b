import { expect, it } from "vitest";
import { anchor, outline, pieces } from "./writ";

it("a line keeps every character when it is coloured", () => {
  for (const line of [
    '  rule "A # in \\" text" { # why',
    "  when request.port in 1..12",
    "permit tcp to 10.44.0.0/16 port 53",
    "é„",
  ]) {
    expect(
      pieces(line)
        .map((piece) => piece.text)
        .join(""),
    ).toBe(line);
  }
  expect(pieces("when nas.site").map((piece) => piece.kind)).toEqual(["keyword", "plain", "fact"]);
});

it("the outline finds what is declared and not what is used", () => {
  const source = 'grant crew {\n}\ngate ports {\n  rule "Cranes" {\n    grant crew\n  }\n  otherwise refuse\n}\ncase "c" {';
  expect(outline(source).map((item) => `${item.line} ${anchor(item)}`)).toEqual([
    "1 grant crew",
    "3 gate ports",
    "4 rule ports Cranes",
    "9 case c",
  ]);
});
