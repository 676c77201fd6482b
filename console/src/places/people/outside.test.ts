import { expect, test } from "vitest";
import { askedOf, draftOf, EMPTY, factsOf, holds, lasted, type Store, shownFacts } from "./outside";

const DIRECTORY = {
  servers: ["ldaps://dir-1.tarnmouth.example", "ldap://dir-2.tarnmouth.example:3890"],
  trust: "port-directory",
  bind_as: "cn=regnant,dc=tarnmouth,dc=example",
  base: "dc=tarnmouth,dc=example",
  person_filter: "(objectClass=person)",
  person_names: ["uid", "mail"],
  machine_filter: "",
  machine_names: ["cn"],
  device_filter: "(objectClass=ieee802Device)",
  device_name: "macAddress",
  device_notation: "bare",
  certificates: "userCertificate;binary",
  disabled_filter: "(employeeType=left)",
  nt_hash: "sambaNTPassword",
  clear_password: "",
  groups: "search",
  group_base: null,
  group_name: "cn",
  domain: "TARN",
  machine_account: "REGNANT$",
  domain_controllers: ["dc1.tarnmouth.example"],
  nested: false,
  facts: { "user.department": "departmentNumber" },
  realms: ["tarnmouth.example", "TARN\\"],
  time_limit: 5,
  keep: 0,
};

const SERVICE = {
  url: "https://register.tarnmouth.example/assets/{name}",
  trust: null,
  header: "X-Register-Key",
  token_url: "",
  client: "",
  scope: "",
  facts: { "machine.compliant": "/state/compliant" },
  realms: [],
  time_limit: 3,
  keep: 60,
};

test("a form says what it was filled in with", () => {
  const directory = draftOf({ name: "tarn-directory", directory: DIRECTORY, http: null });
  expect(askedOf(directory)).toEqual({ kind: "directory", directory: DIRECTORY });
  const service = draftOf({ name: "asset-register", directory: null, http: SERVICE });
  expect(askedOf({ ...service, secret: "x" })).toEqual({ kind: "http", http: SERVICE, secret: "x" });
  expect(askedOf({ ...EMPTY, servers: "a, b\nc", base: " dc=x " }).directory).toMatchObject({
    servers: ["a", "b", "c"],
    base: "dc=x",
  });
  expect(factsOf(" user.a = x \n\nuser.b=/p=q\nuser.c")).toEqual({ "user.a": "x", "user.b": "/p=q", "user.c": "" });
  expect(shownFacts({ "user.a": "x", "user.b": "y" })).toBe("user.a=x\nuser.b=y");
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
    http: null,
    servers,
    etag: '"1"',
  });
  expect(holds(store("people", []))).toBe("2 people, 1 machine");
  expect(holds(store("directory", [server(null)]))).toBe("a directory");
  expect(holds(store("directory", [server(7), server(null)]))).toBe("a directory: 1 of 2 servers do not answer");
  expect(holds(store("directory", [server(7)]))).toBe("a directory that does not answer");
  expect(holds(store("http", [server(7)]))).toBe("a service that does not answer");
  expect([lasted(30), lasted(600), lasted(9_000)]).toEqual(["30 s", "10 minutes", "3 hours"]);
});
