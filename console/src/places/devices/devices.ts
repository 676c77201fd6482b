import { api, dataOf } from "../../api/client";
import type { components } from "../../api/schema";
import { timeField, timeOf, words } from "../../parts/records";
import { typed } from "./attributes";

export type Device = components["schemas"]["DeviceView"];

/** Which devices are looked for. */
export interface DeviceSearch {
  q?: string | undefined;
  group?: string | undefined;
  barred?: boolean | undefined;
}

export function readSearch(search: Record<string, unknown>): DeviceSearch {
  return {
    ...(search.q ? { q: String(search.q) } : {}),
    ...(search.group ? { group: String(search.group) } : {}),
    ...(search.barred === true || search.barred === "true" ? { barred: true } : {}),
  };
}

const PAGE = 200;

/** A page of devices, after another. */
export async function devicePage(search: DeviceSearch, after?: string, limit = PAGE) {
  const { q, group, barred } = search;
  const query = {
    limit,
    ...(q ? { q } : {}),
    ...(group ? { group } : {}),
    ...(barred ? { barred } : {}),
    ...(after ? { after } : {}),
  };
  return dataOf(await api.GET("/api/v1/devices", { params: { query } }));
}

/** Every device that a search lets through, for a file. */
export async function everyDevice(search: DeviceSearch): Promise<object[]> {
  const all: object[] = [];
  let after: string | undefined;
  do {
    const page = await devicePage(search, after, 5000);
    all.push(...page.devices.map((device) => ({ ...device, barred_reason: device.barred?.reason ?? "" })));
    after = page.next ?? undefined;
  } while (after);
  return all;
}

export const FIELDS = ["store", "mac", "title", "groups", "owner", "note", "expires", "barred_reason"] as const;

/** A form as it is typed: lists and times are texts. */
export interface DeviceDraft {
  store: string;
  mac: string;
  title: string;
  groups: string;
  owner: string;
  note: string;
  expires: string;
  attributes: Record<string, string>;
}

export function draftOf(device: Device): DeviceDraft {
  const attributes = Object.fromEntries(Object.entries(device.attributes).map(([name, value]) => [name, typed(value)]));
  return { ...device, groups: device.groups.join(" "), expires: timeField(device.expires), attributes };
}

export function changeOf(draft: DeviceDraft) {
  return {
    mac: draft.mac.trim(),
    title: draft.title.trim(),
    groups: words(draft.groups),
    owner: draft.owner.trim(),
    note: draft.note.trim(),
    expires: timeOf(draft.expires),
    // The service reads each as its type says; an empty one is taken away.
    attributes: Object.fromEntries(Object.entries(draft.attributes).map(([name, value]) => [name, value.trim()])),
  };
}

/** Addresses in what was pasted, in whatever notation and with whatever between them. */
export function addressesIn(text: string): string[] {
  const found = text.match(/\b(?:[0-9a-f]{2}([:-]?)(?:[0-9a-f]{2}\1){4}[0-9a-f]{2}|(?:[0-9a-f]{4}\.){2}[0-9a-f]{4})\b/gi);
  return [...new Set(found ?? [])];
}
