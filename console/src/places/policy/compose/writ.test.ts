import { expect, it } from "vitest";
import { parser } from "../writ/writ.grammar";
import { aclText, grantText, needsValue, offeredOf, type Row, rowText, ruleText, testsOf } from "./writ";

function wrongIn(text: string): string[] {
  const wrong: string[] = [];
  parser.parse(text).iterate({
    enter: ({ type, from, to }) => {
      if (type.isError) wrong.push(text.slice(from, to));
    },
  });
  return wrong;
}

const TYPES: [string, string, string][] = [
  ["user.groups", "a set of texts", 'a "b"'],
  ["machine.proved", "true or false", ""],
  ["nas.kind", "one of: switch, router", "switch"],
  ["request.port", "a number", "12"],
  ["time.now", "a moment", "quiet-hours"],
  ["nas.address", "an address", "10.44.0.0/16"],
  ["user.name", "a text", "kim, of the quay"],
  ["request.mac", "a MAC address", "02:00:5e:20:00:07"],
];

it("whatever is chosen can be read", () => {
  for (const [fact, type, value] of TYPES) {
    for (const test of testsOf(fact, type)) {
      const text = rowText({ fact, type, test, value: needsValue(test) ? value : "" });
      expect([text, wrongIn(`define d = ${text}`)]).toEqual([text, []]);
    }
  }
});

it("a rule, a grant and an access list are written from choices", () => {
  const rows: Row[] = [
    { fact: "device.groups", type: "a set of texts", test: "is in group", value: "cranes" },
    { fact: "nas.site", type: "a text", test: "is one of", value: 'quayside, "yard"' },
    { fact: "device.barred", type: "true or false", test: "is not true", value: "" },
  ];
  const parts = { title: 'A "quoted" one', rows, all: true, from: "", until: "2026-12-01T06:00Z" };
  expect(ruleText({ ...parts, result: { what: "grant", grants: ["cranes", "crew"] } })).toBe(
    'rule "A \\"quoted\\" one" until 2026-12-01T06:00Z {\n' +
      '    when device in group "cranes" and nas.site in { "quayside", "yard" } and not device.barred\n' +
      "    grant cranes, crew\n  }",
  );
  expect(ruleText({ ...parts, all: false, result: { what: "refuse", text: "Ask." } })).toContain(
    ' or not device.barred\n    refuse "Ask."',
  );
  const grant = grantText("quay", [
    { keyword: "vlan", value: "30" },
    { keyword: "voice-vlan", value: "phones of the quay" },
    { keyword: "role", value: "crew" },
    { keyword: "session", value: "4h" },
  ]);
  expect(grant).toBe('grant quay {\n  vlan 30\n  voice-vlan "phones of the quay"\n  role "crew"\n  session 4h\n}');
  const acl = aclText("edge", [
    { action: "permit", protocol: "tcp", to: "10.44.0.0/16", ports: "80, 443" },
    { action: "deny", protocol: "ip", to: "", ports: "1" },
  ]);
  expect(acl).toBe("acl edge {\n  permit tcp to 10.44.0.0/16 port 80, 443\n  deny ip to any\n}");
  expect(wrongIn(`${grant}\n${acl}`)).toEqual([]);
});

it("the facts of a request become comparisons that are true of it, those that are asked for first", () => {
  const facts = [
    { name: "nas.kind", value: "switch", asked: true },
    { name: "device.groups", value: '{ "cranes", "quay, north" }', asked: true },
    { name: "machine.proved", value: "false", asked: false },
    { name: "user.name", value: '"kim"', asked: false },
    { name: "time.now", value: "2026-12-01T06:00Z", asked: true },
  ];
  expect(offeredOf(facts).map(({ row, first }) => `${rowText(row)} ${first}`)).toEqual([
    "nas.kind = switch true",
    'device in group "cranes" true',
    'device in group "quay, north" true',
    "not machine.proved false",
    'user.name = "kim" true',
  ]);
});
