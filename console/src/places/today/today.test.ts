import { expect, test } from "vitest";
import { linkOf, times } from "./today";

test("what did not go well is counted in words", () => {
  expect(times({ number: 1, outcome: "refused" })).toBe("Once refused");
  expect(times({ number: 2300, outcome: "silence" })).toBe("2,300 times left without an answer");
});

test("what ends leads to where it is kept", () => {
  const end = { kind: "device", store: "yard", name: "02:00:5e:20:00:01", title: "", at: "" };
  expect(linkOf(end)).toEqual({ to: "/devices/$store/$mac", params: { store: "yard", mac: "02:00:5e:20:00:01" } });
  expect(linkOf({ ...end, kind: "authority" })).toEqual({ to: "/certificates" });
});
