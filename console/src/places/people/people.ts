import type { components } from "../../api/schema";
import { timeField, timeOf, words } from "../../parts/records";

export type Person = components["schemas"]["PersonView"];
export type Machine = components["schemas"]["MachineView"];
export type Group = components["schemas"]["GroupView"];

export const VIEWS = ["people", "machines", "groups", "stores"] as const;
export type View = (typeof VIEWS)[number];

export interface PeopleSearch {
  show?: View | undefined;
  q?: string | undefined;
}

export function readSearch(search: Record<string, unknown>): PeopleSearch {
  const show = VIEWS.find((view) => view === search.show && view !== "people");
  return { ...(show ? { show } : {}), ...(search.q ? { q: String(search.q) } : {}) };
}

/** A form of a person or a machine as it is typed: lists and times are texts. */
export interface AccountDraft {
  name: string;
  password: string;
  groups: string;
  note: string;
  expires: string;
  disabled: boolean;
  mschap: boolean;
  recoverable: boolean;
  engineersOnly: boolean;
  ordinary: boolean;
}

export const EMPTY: AccountDraft = {
  name: "",
  password: "",
  groups: "",
  note: "",
  expires: "",
  disabled: false,
  mschap: false,
  recoverable: false,
  engineersOnly: false,
  ordinary: false,
};

export function draftOf(account: Person | Machine): AccountDraft {
  return {
    ...EMPTY,
    name: account.name,
    groups: account.groups.join(" "),
    note: account.note,
    expires: timeField(account.expires),
    disabled: account.disabled,
    mschap: account.mschap,
    ...("engineers_only" in account
      ? { recoverable: account.recoverable_password, engineersOnly: account.engineers_only, ordinary: account.ordinary }
      : {}),
  };
}

/** What a form says of a machine, and of a person as far as both have it. */
export function machineChange(draft: AccountDraft) {
  return {
    name: draft.name.trim(),
    groups: words(draft.groups),
    note: draft.note.trim(),
    expires: timeOf(draft.expires),
    disabled: draft.disabled,
    mschap: draft.mschap,
    ...(draft.password ? { password: draft.password } : {}),
  };
}

export function personChange(draft: AccountDraft) {
  return {
    ...machineChange(draft),
    recoverable_password: draft.recoverable,
    engineers_only: draft.engineersOnly,
    ordinary: draft.ordinary,
  };
}

/** What is special about an account, in words. */
export function state(account: Person | Machine): string {
  const said = [
    account.disabled && "disabled",
    account.mschap && "MS-CHAP",
    "recoverable_password" in account && account.recoverable_password && "recoverable password",
    "engineers_only" in account && account.engineers_only && "engineers only",
    "ordinary" in account && account.ordinary && "ordinary",
    "has_password" in account && !account.has_password && "certificates alone",
  ];
  return said.filter(Boolean).join(", ");
}
