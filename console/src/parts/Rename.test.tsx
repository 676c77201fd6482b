// @vitest-environment happy-dom
import { fireEvent, screen } from "@testing-library/react";
import { expect, it, vi } from "vitest";
import { CallError } from "../api/client";
import { draw } from "./component";
import { Rename } from "./Rename";

it("tells what follows, and keeps what was typed where it is refused", async () => {
  const rename = vi.fn(async (_: string, anyway: boolean) => {
    if (!anyway) throw new CallError(409, "there is a group `crew` already");
  });
  draw(<Rename what="group" name="staff" named={["line 122"]} follows="Everybody in it is in the other then." rename={rename} />);
  fireEvent.click(screen.getByText("Rename"));
  expect(screen.getByText(/The active policy names it \(line 122\)/)).toBeTruthy();
  const name = screen.getByLabelText<HTMLInputElement>("The new name");
  expect((screen.getByText("Rename it") as HTMLButtonElement).disabled).toBe(true);
  fireEvent.change(name, { target: { value: " crew " } });
  fireEvent.click(screen.getByText("Rename it"));
  expect((await screen.findByRole("alert")).textContent).toContain("there is a group `crew` already");
  expect(name.value).toBe(" crew ");
  fireEvent.click(screen.getByLabelText("do it anyway"));
  fireEvent.click(screen.getByText("Rename it"));
  await vi.waitFor(() => expect(screen.queryByLabelText("The new name")).toBeNull());
  expect(rename.mock.calls).toEqual([
    ["crew", false],
    ["crew", true],
  ]);
});
