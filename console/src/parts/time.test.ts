import { expect, it } from "vitest";
import { clock, span } from "./time";

it("times are shown as people read them", () => {
  expect(span(85)).toBe("85 µs");
  expect(span(45_183)).toBe("45.2 ms");
  expect(clock("2026-11-23T08:30:07.123Z")).toMatch(/^\d{2}:\d{2}:07$/);
});
