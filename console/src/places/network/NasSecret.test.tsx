// @vitest-environment happy-dom
import { fireEvent, screen } from "@testing-library/react";
import { expect, it, vi } from "vitest";
import { draw, service } from "../../parts/component";
import type { Nas } from "./nases";
import { NasSecret } from "./NasSecret";

const nas = (unsigned: boolean | undefined) =>
  ({
    name: "quay-sw-1",
    secret_change: unsigned === undefined ? null : { since: "2026-11-26T08:00:00Z", until: "2026-11-27T08:00:00Z", unsigned },
  }) as Nas;

it("says until when a former secret counts, for equipment that signs and for what does not", () => {
  draw(<NasSecret nas={nas(undefined)} />);
  expect(screen.queryByText(/does not use it yet/)).toBeNull();
  draw(<NasSecret nas={nas(false)} />);
  expect(screen.getByText(/or until the first request under the new one/)).toBeTruthy();
  draw(<NasSecret nas={nas(true)} />);
  expect(screen.getByText(/until you say that it has the new one/)).toBeTruthy();
});

it("sends no secret where one shall be made, and shows that once", async () => {
  const calls = service((_, method) => (method === "PUT" ? { body: { nas: nas(false), secret: "made-for-you" } } : { body: {} }));
  draw(<NasSecret nas={nas(undefined)} />);
  fireEvent.click(screen.getByText("Set another"));
  fireEvent.change(screen.getByLabelText(/Both count for/), { target: { value: "3" } });
  fireEvent.click(screen.getByText("Set it"));
  expect((await screen.findByRole("status")).textContent).toContain("made-for-you");
  expect(calls[0]).toEqual({ path: "/api/v1/nases/quay-sw-1/secret", method: "PUT", body: { grace_hours: 3 } });
});

it("shows the secret when it is asked for, and hides it again", async () => {
  service(() => ({ body: { secret: "bollard-9-anchor" } }));
  draw(<NasSecret nas={nas(undefined)} />);
  fireEvent.click(screen.getByText("Show it"));
  expect(await screen.findByText("bollard-9-anchor")).toBeTruthy();
  fireEvent.click(screen.getByText("Hide it"));
  await vi.waitFor(() => expect(screen.queryByText("bollard-9-anchor")).toBeNull());
});
