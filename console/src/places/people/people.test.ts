import { expect, test } from "vitest";
import { draftOf, personChange, readSearch, state } from "./people";

const ida = {
  store: "harbour",
  name: "ida.marsh",
  groups: ["staff", "harbour-office"],
  disabled: false,
  expires: "2026-12-31T18:00:00.000Z",
  mschap: true,
  recoverable_password: false,
  engineers_only: true,
  ordinary: false,
  note: "",
};

test("a form keeps what was not touched, and no password unless one is typed", () => {
  const change = personChange(draftOf(ida));
  expect(change).toEqual({
    name: "ida.marsh",
    groups: ["staff", "harbour-office"],
    note: "",
    expires: "2026-12-31T18:00:00Z",
    disabled: false,
    mschap: true,
    recoverable_password: false,
    engineers_only: true,
    ordinary: false,
  });
  expect(personChange({ ...draftOf(ida), password: "x" }).password).toBe("x");
});

test("an address says which list is shown, and a line what is special", () => {
  expect(readSearch({ show: "machines", q: "x" })).toEqual({ show: "machines", q: "x" });
  expect(readSearch({ show: "people", other: 1 })).toEqual({});
  expect(state(ida)).toBe("MS-CHAP, engineers only");
});
