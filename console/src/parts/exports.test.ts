import { expect, test } from "vitest";
import { cell, csv } from "./exports";

test("no cell is run by a spreadsheet", () => {
  expect(["a", "=cmd()", 'a, "b"', "@x,y", null, ["a", "b"]].map(cell)).toEqual([
    "a",
    "'=cmd()",
    '"a, ""b"""',
    '"\'@x,y"',
    "",
    "a;b",
  ]);
});

test("records are lines of their fields", () => {
  expect(csv([{ mac: "02:00:5e:20:00:01", groups: ["cranes"], more: 1 }], ["mac", "groups"])).toBe(
    "mac,groups\r\n02:00:5e:20:00:01,cranes\r\n",
  );
});
