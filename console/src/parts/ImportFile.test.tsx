// @vitest-environment happy-dom
import { fireEvent, screen } from "@testing-library/react";
import { expect, it } from "vitest";
import { draw, service } from "./component";
import { ImportFile } from "./ImportFile";

const report = { added: 1, changed: 2, refused: 1, lines: [{ line: 3, why: "no address" }], applied: true };

it("says first what would come of a file, and then applies it", async () => {
  let refuse = true;
  const calls = service(() => (refuse ? { status: 429, body: { error: "Another import is under way." } } : { body: report }));
  draw(<ImportFile kind="devices" done={() => undefined} />);
  const apply = screen.getByText("Import it") as HTMLButtonElement;
  expect(apply.disabled).toBe(true);
  const file = new File(["mac\n"], "devices.csv", { type: "text/csv" });
  fireEvent.change(screen.getByLabelText("A file of records"), { target: { files: [file] } });
  fireEvent.click(screen.getByText("See what would come of it"));
  expect((await screen.findByRole("alert")).textContent).toContain("Another import is under way.");
  expect(apply.disabled).toBe(true);
  refuse = false;
  fireEvent.click(screen.getByText("See what would come of it"));
  expect((await screen.findByRole("status")).textContent).toContain("It would be: 1 new, 2 changed, 1 refused.");
  expect(screen.getByLabelText("Refused lines").textContent).toBe("line 3no address");
  fireEvent.click(apply);
  expect(await screen.findByText(/Imported: 1 new/)).toBeTruthy();
  expect(calls.map((call) => call.path)).toEqual(["/api/v1/import/devices", "/api/v1/import/devices", "/api/v1/import/devices"]);
});
