// @vitest-environment happy-dom
import { fireEvent, screen } from "@testing-library/react";
import { expect, it } from "vitest";
import { draw } from "./component";
import { FormEnd } from "./FormEnd";
import { unsaved } from "./unsaved";

it("what is typed is unsaved until it is sent, and again where it was refused", () => {
  const form = (error: Error | null) => (
    <form onSubmit={(event) => event.preventDefault()}>
      <input aria-label="Title" />
      <FormEnd act="Add" busy={false} error={error}>
        <a href="#away">Cancel</a>
      </FormEnd>
    </form>
  );
  draw(form(null));
  const type = () => fireEvent.input(screen.getByLabelText("Title"), { target: { value: "crane" } });
  expect(unsaved.size).toBe(0);
  type();
  expect(unsaved.size).toBe(1);
  fireEvent.click(screen.getByText("Add"));
  expect(unsaved.size).toBe(0);
  type();
  fireEvent.click(screen.getByText("Cancel"));
  expect(unsaved.size).toBe(0);
  draw(form(new Error("There is one already.")));
  expect(unsaved.size).toBe(1);
  draw(<p>Another page</p>);
  expect(unsaved.size).toBe(0);
});
