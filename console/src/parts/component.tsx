import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render } from "@testing-library/react";
import type { ReactNode } from "react";
import { vi } from "vitest";

/** Draws a part for a test, with queries of its own. */
export function draw(part: ReactNode) {
  cleanup();
  const queries = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  return render(<QueryClientProvider client={queries}>{part}</QueryClientProvider>);
}

/** Answers every call with what this makes of it, and gives the calls. */
export function service(answer: (path: string, method: string, body: unknown) => { status?: number; body: unknown }) {
  const calls: { path: string; method: string; body: unknown }[] = [];
  vi.stubGlobal("fetch", async (input: Request | string, options?: RequestInit) => {
    const request = input instanceof Request ? input : undefined;
    const path = new URL(request?.url ?? String(input), "http://localhost").pathname;
    const text = request ? await request.text() : typeof options?.body === "string" ? options.body : "";
    const call = { path, method: request?.method ?? options?.method ?? "GET", body: text ? JSON.parse(text) : undefined };
    calls.push(call);
    const { status = 200, body } = answer(call.path, call.method, call.body);
    return new Response(JSON.stringify(body), { status, headers: { "content-type": "application/json" } });
  });
  return calls;
}
