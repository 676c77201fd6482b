import { expect, test } from "vitest";
import { ends, gatesWithProfiles, lasts, profileAddress } from "./certificates";

test("the time left is told in words", () => {
  const told = (days_left: number) => ends({ not_before: 0, not_after: 86_400, days_left });
  expect(told(30)).toBe("1970-01-01 to 1970-01-02, 30 days left");
  expect(told(1)).toContain("ends tomorrow");
  expect(told(0)).toContain("ends today");
  expect(told(-3)).toContain("ended 3 days ago");
});

test("a revocation list may have no end", () => {
  expect(lasts({ this_update: 0, next_update: 86_400, days_left: -1 })).toBe("1970-01-01 to 1970-01-02, ended 1 day ago");
  expect(lasts({ this_update: 0, next_update: null, days_left: null })).toBe("since 1970-01-01, without an end");
});

test("profiles are offered once for each gate that presents a certificate", () => {
  const certificates = [
    { gates: ["crew", "agents"], pending: false },
    { gates: ["crew"], pending: false },
    { gates: ["later"], pending: true },
  ];
  expect(gatesWithProfiles(certificates)).toEqual(["crew", "agents"]);
});

test("a profile's address carries the network's name as it is", () => {
  expect(profileAddress("crew", "apple", " a&b ")).toBe("/api/v1/supplicant-profile?gate=crew&platform=apple&ssid=a%26b");
  expect(profileAddress("crew", "windows", "")).toBe("/api/v1/supplicant-profile?gate=crew&platform=windows");
});
