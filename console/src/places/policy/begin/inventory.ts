/** What a policy is checked against, by names alone, as the service tells it. */
export type Inventory = Record<string, unknown>;

type Stores = Record<string, { holds?: string[]; facts_only?: boolean }>;
type Groups = Record<string, { names?: string[] }>;

/** The stores that can prove identities of a kind. */
export function storesOf(inventory: Inventory, kind: string): string[] {
  const stores = Object.entries((inventory.stores ?? {}) as Stores);
  return stores.filter(([, store]) => store.holds?.includes(kind) && !store.facts_only).map(([name]) => name);
}

/** The groups that identities of a kind are in. */
export function groupsOf(inventory: Inventory, kind: string): string[] {
  return ((inventory.groups ?? {}) as Groups)[kind]?.names ?? [];
}

/** Certificates by their names, or the sites of equipment. */
export function namesOf(inventory: Inventory, what: "certificates" | "sites"): string[] {
  if (what === "certificates") return (inventory.certificates as string[] | null | undefined) ?? [];
  const equipment = (inventory.equipment ?? []) as { site?: string }[];
  return [...new Set(equipment.flatMap(({ site }) => (site ? [site] : [])))].sort();
}
