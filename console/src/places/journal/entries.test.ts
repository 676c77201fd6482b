import { describe, expect, it } from "vitest";
import type { Entry } from "../../api/client";
import { matches, merge, readFilter, toCsv, updatesOf } from "./entries";

function entry(id: string, text: string, outcome = "granted"): Entry {
  return { id, at: "2026-11-23T08:30:00.000Z", outcome, reason: "", sentence: [{ kind: "text", text }] };
}

describe("the journal's entries", () => {
  const list = [entry("3", "c"), entry("1", "a")];

  it("are merged newest first, and one that comes again keeps its place", () => {
    const merged = merge(list, [entry("2", "b"), entry("4", "d"), entry("1", "a again")]);
    expect(merged.map((one) => one.id)).toEqual(["4", "3", "2", "1"]);
    expect(merged[3]?.sentence[0]?.text).toBe("a again");
    expect(updatesOf(list, [entry("1", "x"), entry("9", "y")]).map((one) => one.id)).toEqual(["1"]);
  });

  it("match a filter when every word stands in the sentence", () => {
    const crane = entry("1", "crane controller on quay-sw-1 was given cranes");
    expect(matches(crane, { q: "CRANE quay" })).toBe(true);
    expect(matches(crane, { q: "crane yard" })).toBe(false);
    expect(matches(crane, { outcome: "refused" })).toBe(false);
    expect(matches(crane, { outcome: "granted,refused" })).toBe(true);
  });

  it("are exported so that no spreadsheet runs them", () => {
    expect(toCsv([entry("1", '=cmd "x"')]).split("\r\n")[1]).toContain(`"'=cmd ""x"""`);
  });
});

it("an address bar with nonsense is no filter", () => {
  expect(readFilter({ q: "", outcome: "perhaps", other: 1 })).toEqual({});
  expect(readFilter({ q: 7, outcome: "refused" })).toEqual({ q: "7", outcome: "refused" });
  expect(readFilter({ outcome: "told,perhaps,refused" })).toEqual({ outcome: "refused,told" });
});
