import type { NavigateOptions } from "@tanstack/react-router";
import { api, dataOf } from "../api/client";

/** Something that was found, and where it is. */
export interface Found {
  kind: string;
  name: string;
  about: string;
  link: NavigateOptions;
}

/** How many of a kind are shown. */
const EACH = 6;

/** The id of an entry of the journal: a ULID. */
export function isEntry(q: string): boolean {
  return /^[0-9A-HJKMNP-TV-Z]{26}$/i.test(q);
}

/** Asks for everything that could be meant, at once. */
export async function find(q: string): Promise<Found[]> {
  const query = { q, limit: EACH };
  const [nases, people, machines, devices] = await Promise.all([
    api.GET("/api/v1/nases", { params: { query } }).then(dataOf),
    api.GET("/api/v1/people", { params: { query } }).then(dataOf),
    api.GET("/api/v1/machines", { params: { query } }).then(dataOf),
    api.GET("/api/v1/devices", { params: { query } }).then(dataOf),
  ]);
  const found: Found[] = [];
  if (isEntry(q)) {
    found.push({
      kind: "entry",
      name: q.toUpperCase(),
      about: "of the journal",
      link: { to: "/journal/$id", params: { id: q.toUpperCase() } },
    });
  }
  for (const nas of nases.nases) {
    found.push({
      kind: "NAS",
      name: nas.name,
      about: `${nas.addresses.join(", ")}, ${nas.kind} at ${nas.site}`,
      link: { to: "/network/$name", params: { name: nas.name } },
    });
  }
  for (const person of people.people) {
    const { store, name } = person;
    found.push({
      kind: "person",
      name,
      about: person.groups.join(", "),
      link: { to: "/people/$store/$name", params: { store, name } },
    });
  }
  for (const machine of machines.machines) {
    const { store, name } = machine;
    found.push({
      kind: "machine",
      name,
      about: machine.groups.join(", "),
      link: { to: "/machines/$store/$name", params: { store, name } },
    });
  }
  for (const { store, mac, title, owner, barred } of devices.devices) {
    const about = [barred && "barred", title, owner].filter(Boolean).join(", ");
    found.push({ kind: "device", name: mac, about, link: { to: "/devices/$store/$mac", params: { store, mac } } });
  }
  found.push({ kind: "journal", name: q, about: "entries that say so", link: { to: "/journal", search: { q } } });
  return found;
}
