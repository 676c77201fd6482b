import { expect, it } from "vitest";
import { type Nas, claimed, draftFor, draftOf, formOf, signing } from "./nases";

const NAS: Nas = {
  name: "quay-sw-1",
  addresses: ["127.0.0.11", "10.50.0.0/16"],
  kind: "switch",
  site: "quayside",
  tags: ["core"],
  note: "Behind the crane",
  dialect: "standard",
  require_message_authenticator: true,
  class_at_login: false,
  lacks: [],
};

it("what is shown in a form and not touched stays as it is, and the secret is left out", () => {
  const form = formOf(draftOf(NAS));
  const { lacks: _, ...same } = NAS;
  expect(form).toEqual(same);
  expect("secret" in form).toBe(false);
});

it("addresses and tags are taken however they are parted", () => {
  const form = formOf({ ...draftOf(NAS), addresses: " 127.0.0.1,\n10.0.0.0/8 ", tags: "a,  b" });
  expect([form.addresses, form.tags]).toEqual([
    ["127.0.0.1", "10.0.0.0/8"],
    ["a", "b"],
  ]);
});

it("a sender's claims fill the form in, and nonsense does not", () => {
  expect(draftFor({ address: "127.0.0.13", kind: "router", name: "x" })).toMatchObject({
    addresses: "127.0.0.13",
    kind: "router",
    name: "x",
  });
  expect(draftFor({ address: 7, kind: "toaster" })).toMatchObject({ addresses: "", kind: "switch" });
});

it("claims are told in a sentence", () => {
  const sender = { source: "x", nas: null, causes: [], can_try_secret: true };
  expect(claimed({ ...sender, claims: { identifier: "dock", kind: "switch" } })).toBe(
    "It calls itself dock, looks like a switch.",
  );
  expect(claimed({ ...sender, claims: {} })).toBe("");
});

it("says whether a NAS signs, and what to do", () => {
  const since = "2026-11-26T08:00:00Z";
  const nas = (required: boolean, signed: string | null) => ({
    require_message_authenticator: required,
    signed_since: signed,
    unsigned_at: null,
  });
  expect(signing(nas(true, null))).toBe("required");
  expect(signing(nas(false, since))).toMatch(/in every request since .*: require it now/);
  expect(signing(nas(false, null))).toMatch(/forged on the way: update it/);
  expect(signing({ ...nas(false, null), unsigned_at: since })).toMatch(/the last without came at/);
});
