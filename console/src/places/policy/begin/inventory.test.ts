import { expect, it } from "vitest";
import { groupsOf, namesOf, storesOf } from "./inventory";

it("names of what there is are read, and nothing is made up", () => {
  const inventory = {
    stores: { harbour: { holds: ["user", "machine"] }, posture: { holds: ["machine"], facts_only: true } },
    groups: { user: { names: ["staff"] } },
    certificates: null,
    equipment: [{ site: "yard" }, { site: "quay" }, { site: "yard" }],
  };
  expect([storesOf(inventory, "user"), storesOf(inventory, "machine"), storesOf(inventory, "mac")]).toEqual([
    ["harbour"],
    ["harbour"],
    [],
  ]);
  expect([groupsOf(inventory, "user"), groupsOf(inventory, "mac")]).toEqual([["staff"], []]);
  expect([namesOf(inventory, "certificates"), namesOf(inventory, "sites")]).toEqual([[], ["quay", "yard"]]);
  expect([storesOf({}, "user"), namesOf({}, "sites")]).toEqual([[], []]);
});
