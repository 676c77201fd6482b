import { expect, test } from "vitest";
import { isEntry } from "./find";

test("an entry is known by its id", () => {
  expect(isEntry("01JDM6V3N4T0000000000000AB")).toBe(true);
  expect(isEntry("02:00:5e:20:00:07")).toBe(false);
  expect(isEntry("ida.marsh")).toBe(false);
});
