import type { components } from "../../api/schema";
import { moment } from "../../parts/time";

export type Nas = components["schemas"]["NasView"];
export type NasForm = components["schemas"]["NasForm"];
export type Unheard = components["schemas"]["UnheardView"];

/** What the place shows. */
export const VIEWS = ["equipment", "sites", "dialects", "dictionaries", "secrets"] as const;
export type NetworkView = (typeof VIEWS)[number];

export function readNetworkSearch(search: Record<string, unknown>): { q?: string; show?: NetworkView } {
  const show = VIEWS.find((view) => view === search.show && view !== "equipment");
  return { ...(search.q ? { q: String(search.q) } : {}), ...(show ? { show } : {}) };
}

export const KINDS = ["switch", "controller", "access-point", "firewall", "router", "vpn", "manager", "server", "other"] as const;

/** A form as it is typed: lists are texts. */
export interface Draft {
  name: string;
  addresses: string;
  kind: string;
  site: string;
  tags: string;
  note: string;
  dialect: string;
  secret: string;
  signed: boolean;
  classAtLogin: boolean;
}

export const EMPTY: Draft = {
  name: "",
  addresses: "",
  kind: "switch",
  site: "",
  tags: "",
  note: "",
  dialect: "standard",
  secret: "",
  signed: true,
  classAtLogin: false,
};

export function draftOf(nas: Nas): Draft {
  return {
    name: nas.name,
    addresses: nas.addresses.join("\n"),
    kind: nas.kind,
    site: nas.site,
    tags: nas.tags.join(" "),
    note: nas.note,
    dialect: nas.dialect,
    secret: "",
    signed: nas.require_message_authenticator,
    classAtLogin: nas.class_at_login,
  };
}

/** A draft that an unheard sender's claims fill in, as far as they go. */
export function draftFor(search: Record<string, unknown>): Draft {
  const text = (key: string) => (typeof search[key] === "string" ? search[key] : "");
  const kind = KINDS.find((known) => known === search.kind) ?? EMPTY.kind;
  return { ...EMPTY, name: text("name"), addresses: text("address"), kind };
}

function words(text: string): string[] {
  return text.split(/[\s,]+/).filter(Boolean);
}

export function formOf(draft: Draft): NasForm {
  return {
    name: draft.name.trim(),
    addresses: words(draft.addresses),
    kind: draft.kind,
    site: draft.site.trim(),
    tags: words(draft.tags),
    note: draft.note.trim(),
    dialect: draft.dialect,
    require_message_authenticator: draft.signed,
    class_at_login: draft.classAtLogin,
    ...(draft.secret ? { secret: draft.secret } : {}),
  };
}

/** What a sender claims, in words. */
export function claimed({ claims }: Unheard): string {
  const said = [
    claims.identifier && `calls itself ${claims.identifier}`,
    claims.address && `says its address is ${claims.address}`,
    claims.kind && `looks like a ${claims.kind}`,
  ].filter(Boolean);
  return said.length > 0 ? `It ${said.join(", ")}.` : "";
}

/** What is to be known of whether a NAS signs its requests. */
export function signing(nas: Pick<Nas, "require_message_authenticator" | "signed_since" | "unsigned_at">): string {
  if (nas.require_message_authenticator)
    return nas.signed_since ? `required, and in every request since ${moment(nas.signed_since)}` : "required";
  if (nas.signed_since) return `not required, and in every request since ${moment(nas.signed_since)}: require it now`;
  const last = nas.unsigned_at ? ` (the last without came at ${moment(nas.unsigned_at)})` : "";
  return `not required, so that its answers can be forged on the way${last}: update it, then require it`;
}
