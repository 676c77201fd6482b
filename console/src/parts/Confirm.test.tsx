// @vitest-environment happy-dom
import { fireEvent, screen } from "@testing-library/react";
import { expect, it } from "vitest";
import { Confirm } from "./Confirm";
import { draw } from "./component";

it("does nothing that cannot be taken back before somebody says so twice", () => {
  let removed = 0;
  const part = (forbidden: boolean) => (
    <Confirm
      action="Remove"
      title="Remove it?"
      keep="Keep it"
      confirm="Remove it"
      error={null}
      busy={false}
      forbidden={forbidden}
      act={() => removed++}
    >
      212 devices are in it.
    </Confirm>
  );
  draw(part(true));
  fireEvent.click(screen.getByText("Remove"));
  expect(screen.getByText("212 devices are in it.")).toBeTruthy();
  fireEvent.click(screen.getByText("Remove it"));
  expect(removed).toBe(0);
  draw(part(false));
  fireEvent.click(screen.getByText("Remove"));
  fireEvent.click(screen.getByText("Keep it"));
  expect(screen.queryByText("212 devices are in it.")).toBeNull();
  fireEvent.click(screen.getByText("Remove"));
  fireEvent.click(screen.getByText("Remove it"));
  expect(removed).toBe(1);
});
