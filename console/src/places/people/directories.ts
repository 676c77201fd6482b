import type { components } from "../../api/schema";
import { words } from "../../parts/records";

export type Store = components["schemas"]["StoreView"];
export type Directory = components["schemas"]["DirectoryForm"];
export type Step = components["schemas"]["StepView"];

/** A form as it is typed: lists and numbers are texts. */
export interface DirectoryDraft {
  name: string;
  servers: string;
  trust: string;
  bindAs: string;
  bindPassword: string;
  base: string;
  personFilter: string;
  personNames: string;
  machineFilter: string;
  machineNames: string;
  groups: string;
  groupBase: string;
  groupName: string;
  nested: boolean;
  timeLimit: string;
  keep: string;
}

export const EMPTY: DirectoryDraft = {
  name: "",
  servers: "",
  trust: "",
  bindAs: "",
  bindPassword: "",
  base: "",
  personFilter: "(objectClass=person)",
  personNames: "uid",
  machineFilter: "",
  machineNames: "cn",
  groups: "member-of",
  groupBase: "",
  groupName: "cn",
  nested: true,
  timeLimit: "3",
  keep: "60",
};

export function draftOf(name: string, directory: Directory): DirectoryDraft {
  return {
    name,
    servers: (directory.servers ?? []).join("\n"),
    trust: directory.trust ?? "",
    bindAs: directory.bind_as ?? "",
    bindPassword: "",
    base: directory.base ?? "",
    personFilter: directory.person_filter ?? "",
    personNames: (directory.person_names ?? []).join(" "),
    machineFilter: directory.machine_filter ?? "",
    machineNames: (directory.machine_names ?? []).join(" "),
    groups: directory.groups ?? EMPTY.groups,
    groupBase: directory.group_base ?? "",
    groupName: directory.group_name ?? EMPTY.groupName,
    nested: directory.nested ?? true,
    timeLimit: String(directory.time_limit ?? EMPTY.timeLimit),
    keep: String(directory.keep ?? EMPTY.keep),
  };
}

/** What a form says of how a directory is asked. */
export function directoryOf(draft: DirectoryDraft): Directory {
  return {
    servers: words(draft.servers),
    trust: draft.trust || null,
    bind_as: draft.bindAs.trim(),
    base: draft.base.trim(),
    person_filter: draft.personFilter.trim(),
    person_names: words(draft.personNames),
    machine_filter: draft.machineFilter.trim(),
    machine_names: words(draft.machineNames),
    groups: draft.groups,
    group_base: draft.groupBase.trim() || null,
    group_name: draft.groupName.trim(),
    nested: draft.nested,
    time_limit: Number(draft.timeLimit) || 0,
    keep: Number(draft.keep) || 0,
  };
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
  if (down === 0) return store.servers.length === 1 ? "a directory" : `a directory of ${store.servers.length} servers`;
  if (down === store.servers.length) return "a directory that does not answer";
  return `a directory: ${down} of ${store.servers.length} servers do not answer`;
}
