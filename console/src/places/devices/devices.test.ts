import { expect, test } from "vitest";
import { addressesIn, changeOf, readSearch } from "./devices";

test("addresses are found in whatever was pasted", () => {
  const pasted = "02:00:5e:20:00:01, 02-00-5E-20-00-02\n(0200.5e20.0003); 02005e200004 02005e200004 and 12:34";
  expect(addressesIn(pasted)).toEqual(["02:00:5e:20:00:01", "02-00-5E-20-00-02", "0200.5e20.0003", "02005e200004"]);
});

test("a form says never where the end is empty", () => {
  const draft = {
    store: "s",
    mac: " a ",
    title: "t ",
    groups: "a, b c",
    owner: "",
    note: "",
    expires: "",
    attributes: { "asset-class": " crane", level: "" },
  };
  expect(changeOf(draft)).toEqual({
    mac: "a",
    title: "t",
    groups: ["a", "b", "c"],
    owner: "",
    note: "",
    expires: "",
    attributes: { "asset-class": "crane", level: "" },
  });
  expect(changeOf({ ...draft, expires: "2026-12-31T18:00" }).expires).toBe("2026-12-31T18:00:00Z");
});

test("the address bar says what is looked for", () => {
  expect(readSearch({ q: 12, barred: "true", other: 1 })).toEqual({ q: "12", barred: true });
});
