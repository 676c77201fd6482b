import type { components } from "../../api/schema";
import { words } from "../../parts/records";

export type Store = components["schemas"]["StoreView"];
export type Directory = components["schemas"]["DirectoryForm"];
export type Service = components["schemas"]["HttpForm"];
export type Step = components["schemas"]["StepView"];

/** A form as it is typed: lists and numbers are texts. */
export interface Draft {
  kind: "directory" | "http";
  name: string;
  trust: string;
  secret: string;
  facts: string;
  realms: string;
  timeLimit: string;
  keep: string;
  servers: string;
  bindAs: string;
  base: string;
  personFilter: string;
  personNames: string;
  machineFilter: string;
  machineNames: string;
  deviceFilter: string;
  deviceName: string;
  deviceNotation: string;
  certificates: string;
  disabledFilter: string;
  ntHash: string;
  clearPassword: string;
  groups: string;
  groupBase: string;
  groupName: string;
  domain: string;
  machineAccount: string;
  domainControllers: string;
  nested: boolean;
  url: string;
  header: string;
  tokenUrl: string;
  client: string;
  scope: string;
}

export const EMPTY: Draft = {
  kind: "directory",
  name: "",
  trust: "",
  secret: "",
  facts: "",
  realms: "",
  timeLimit: "3",
  keep: "60",
  servers: "",
  bindAs: "",
  base: "",
  personFilter: "(objectClass=person)",
  personNames: "uid",
  machineFilter: "",
  machineNames: "cn",
  deviceFilter: "",
  deviceName: "macAddress",
  deviceNotation: "colons",
  certificates: "",
  disabledFilter: "",
  ntHash: "",
  clearPassword: "",
  groups: "member-of",
  groupBase: "",
  groupName: "cn",
  domain: "",
  machineAccount: "",
  domainControllers: "",
  nested: true,
  url: "",
  header: "",
  tokenUrl: "",
  client: "",
  scope: "",
};

/** A store outside as a form. */
export function draftOf(store: Pick<Store, "name" | "directory" | "http">): Draft {
  const { name, directory, http } = store;
  const asked = directory ?? http;
  const common = {
    ...EMPTY,
    name,
    trust: asked?.trust ?? "",
    facts: shownFacts(asked?.facts ?? {}),
    realms: (asked?.realms ?? []).join(" "),
    timeLimit: String(asked?.time_limit ?? EMPTY.timeLimit),
    keep: String(asked?.keep ?? EMPTY.keep),
  };
  if (http) {
    const { url, header, token_url: tokenUrl, client, scope } = http;
    return { ...common, kind: "http", url, header, tokenUrl, client, scope };
  }
  if (!directory) return common;
  return {
    ...common,
    servers: directory.servers.join("\n"),
    bindAs: directory.bind_as,
    base: directory.base,
    personFilter: directory.person_filter,
    personNames: directory.person_names.join(" "),
    machineFilter: directory.machine_filter,
    machineNames: directory.machine_names.join(" "),
    deviceFilter: directory.device_filter,
    deviceName: directory.device_name,
    deviceNotation: directory.device_notation,
    certificates: directory.certificates,
    disabledFilter: directory.disabled_filter,
    ntHash: directory.nt_hash,
    clearPassword: directory.clear_password,
    groups: directory.groups,
    groupBase: directory.group_base ?? "",
    groupName: directory.group_name,
    domain: directory.domain,
    machineAccount: directory.machine_account,
    domainControllers: directory.domain_controllers.join(" "),
    nested: directory.nested,
  };
}

/** Facts as they are typed: one in a line, with where it stands. */
export function shownFacts(facts: Record<string, string>): string {
  return Object.entries(facts)
    .map(([fact, place]) => `${fact}=${place}`)
    .join("\n");
}

/** What was typed as facts; a line without a place is told by the service. */
export function factsOf(text: string): Record<string, string> {
  const lines = text.split("\n").filter((line) => line.trim());
  return Object.fromEntries(
    lines.map((line) => {
      const [fact = "", ...place] = line.split("=");
      return [fact.trim(), place.join("=").trim()];
    }),
  );
}

/** What a form says of how a store is asked. */
export function askedOf(draft: Draft): { kind: string; directory?: Directory; http?: Service; secret?: string } {
  const common = {
    trust: draft.trust || null,
    facts: factsOf(draft.facts),
    realms: words(draft.realms),
    time_limit: Number(draft.timeLimit) || 0,
    keep: Number(draft.keep) || 0,
  };
  const secret = draft.secret ? { secret: draft.secret } : {};
  if (draft.kind === "http") {
    const http = {
      ...common,
      url: draft.url.trim(),
      header: draft.header.trim(),
      token_url: draft.tokenUrl.trim(),
      client: draft.client.trim(),
      scope: draft.scope.trim(),
    };
    return { kind: "http", http, ...secret };
  }
  const directory = {
    ...common,
    servers: words(draft.servers),
    bind_as: draft.bindAs.trim(),
    base: draft.base.trim(),
    person_filter: draft.personFilter.trim(),
    person_names: words(draft.personNames),
    machine_filter: draft.machineFilter.trim(),
    machine_names: words(draft.machineNames),
    device_filter: draft.deviceFilter.trim(),
    device_name: draft.deviceName.trim(),
    device_notation: draft.deviceNotation,
    certificates: draft.certificates.trim(),
    disabled_filter: draft.disabledFilter.trim(),
    nt_hash: draft.ntHash.trim(),
    clear_password: draft.clearPassword.trim(),
    groups: draft.groups,
    group_base: draft.groupBase.trim() || null,
    group_name: draft.groupName.trim(),
    domain: draft.domain.trim(),
    machine_account: draft.machineAccount.trim(),
    domain_controllers: words(draft.domainControllers),
    nested: draft.nested,
  };
  return { kind: "directory", directory, ...secret };
}

/** A time in words: 4 minutes. */
export function lasted(seconds: number): string {
  if (seconds < 120) return `${seconds} s`;
  if (seconds < 7_200) return `${Math.round(seconds / 60)} minutes`;
  return `${Math.round(seconds / 3_600)} hours`;
}

/** What is in a store, or how it does, in words. */
export function holds(store: Store): string {
  if (store.kind === "people") {
    const machines = store.machines === 1 ? "1 machine" : `${store.machines} machines`;
    return `${store.people === 1 ? "1 person" : `${store.people} people`}, ${machines}`;
  }
  if (store.kind === "devices") return `${store.devices.toLocaleString("en-GB")} devices`;
  const down = store.servers.filter((server) => server.down_for != null).length;
  if (store.kind === "http") return down === 0 ? "a service that tells facts" : "a service that does not answer";
  if (down === 0) return store.servers.length === 1 ? "a directory" : `a directory of ${store.servers.length} servers`;
  if (down === store.servers.length) return "a directory that does not answer";
  return `a directory: ${down} of ${store.servers.length} servers do not answer`;
}
