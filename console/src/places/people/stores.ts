import { queryOptions } from "@tanstack/react-query";
import { api, dataOf } from "../../api/client";
import { MOST } from "../../queries";

/** Every store, and what is in it. */
export const stores = queryOptions({
  queryKey: ["stores"],
  queryFn: async () => dataOf(await api.GET("/api/v1/stores", { params: { query: { limit: MOST } } })),
});
