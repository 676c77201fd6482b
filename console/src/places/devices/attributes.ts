import { queryOptions } from "@tanstack/react-query";
import { api, dataOf } from "../../api/client";
import type { components } from "../../api/schema";
import { MOST } from "../../queries";

export type Attribute = components["schemas"]["DeviceAttributeView"];

export const TYPES = ["text", "number", "boolean", "address", "texts"] as const;

/** What is declared of devices. */
export const declared = queryOptions({
  queryKey: ["device-attributes"],
  queryFn: async () => dataOf(await api.GET("/api/v1/device-attributes", { params: { query: { limit: MOST } } })),
  staleTime: 30_000,
});

/** A value as it is typed and shown: several texts with ; between them. */
export function typed(value: unknown): string {
  return Array.isArray(value) ? value.join("; ") : value === undefined || value === null ? "" : String(value);
}
