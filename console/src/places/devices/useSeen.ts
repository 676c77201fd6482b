import { useQueries } from "@tanstack/react-query";
import { api, dataOf } from "../../api/client";

/** Devices asked about at once. */
const PART = 200;
/** How long it is taken as known when a device was seen. */
const FRESH_MS = 30_000;

/** When these devices were seen last, by their addresses; those that never were are not there. */
export function useSeen(macs: string[]): Map<string, string> {
  const parts = Array.from({ length: Math.ceil(macs.length / PART) }, (_, part) => macs.slice(part * PART, (part + 1) * PART));
  return useQueries({
    queries: parts.map((part) => ({
      queryKey: ["seen", part.join(",")],
      queryFn: async () => dataOf(await api.GET("/api/v1/devices/seen", { params: { query: { macs: part.join(",") } } })).seen,
      staleTime: FRESH_MS,
    })),
    combine: (answers) => new Map(answers.flatMap((answer) => (answer.data ?? []).map((one) => [one.mac, one.at] as const))),
  });
}
