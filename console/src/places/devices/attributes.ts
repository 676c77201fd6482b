import { queryOptions } from "@tanstack/react-query";
import { api, dataOf } from "../../api/client";
import type { components } from "../../api/schema";
import { MOST } from "../../queries";

export type Attribute = components["schemas"]["IdentityAttributeView"];

export const TYPES = ["text", "number", "boolean", "address", "texts"] as const;

/** What is declared of devices, users and machines. */
export const declared = queryOptions({
  queryKey: ["attributes"],
  queryFn: async () => dataOf(await api.GET("/api/v1/attributes", { params: { query: { limit: MOST } } })),
  staleTime: 30_000,
});

/** A value as it is typed and shown: several texts with ; between them. */
export function typed(value: unknown): string {
  return Array.isArray(value) ? value.join("; ") : value === undefined || value === null ? "" : String(value);
}

/** Those of devices. */
export function ofDevices(attributes: Attribute[]): Attribute[] {
  return attributes.filter((attribute) => attribute.fact.startsWith("device."));
}
