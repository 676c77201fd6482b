import { expect, test } from "vitest";
import { directoryOf, draftOf, EMPTY, holds, lasted, type Store } from "./directories";

const DIRECTORY = {
  servers: ["ldaps://dir-1.tarnmouth.example", "ldap://dir-2.tarnmouth.example:3890"],
  trust: "port-directory",
  bind_as: "cn=regnant,dc=tarnmouth,dc=example",
  base: "dc=tarnmouth,dc=example",
  person_filter: "(objectClass=person)",
  person_names: ["uid", "mail"],
  machine_filter: "",
  machine_names: ["cn"],
  groups: "search",
  group_base: null,
  group_name: "cn",
  nested: false,
  time_limit: 5,
  keep: 0,
};

test("a form says what it was filled in with", () => {
  expect(directoryOf(draftOf("tarn-directory", DIRECTORY))).toEqual(DIRECTORY);
  expect(directoryOf({ ...EMPTY, servers: "a, b\nc", base: " dc=x " })).toMatchObject({ servers: ["a", "b", "c"], base: "dc=x" });
});

test("a store says what it holds, or whether it answers", () => {
  const server = (down: number | null) => ({ url: "ldaps://x", down_for: down, why: null, advice: null, asked: 1, failed: 0 });
  const store = (kind: string, servers: Store["servers"]): Store => ({
    name: "x",
    kind,
    people: 2,
    machines: 1,
    devices: 3,
    in_policy: true,
    directory: null,
    servers,
  });
  expect(holds(store("people", []))).toBe("2 people, 1 machine");
  expect(holds(store("directory", [server(null)]))).toBe("a directory");
  expect(holds(store("directory", [server(7), server(null)]))).toBe("a directory: 1 of 2 servers do not answer");
  expect(holds(store("directory", [server(7)]))).toBe("a directory that does not answer");
  expect([lasted(30), lasted(600), lasted(9_000)]).toEqual(["30 s", "10 minutes", "3 hours"]);
});
