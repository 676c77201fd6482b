// @vitest-environment happy-dom
import { afterEach, expect, it, vi } from "vitest";
import { type Calls, Draft, type Edition, MAIN } from "../draft/draft";
import { act } from "./act";

const edition: Edition = {
  number: 1,
  source: "one\ntwo\n",
  included: {},
  state: "active",
  created_at: "",
  created_by: "",
  note: "",
  made_from: null,
};

const calls: Calls = {
  draft: async () => null,
  active: async () => edition,
  keep: async () => {
    throw new Error("away");
  },
  forget: async () => {},
};

afterEach(() => vi.unstubAllGlobals());

it("a text that is changed while something is done to it is asked of again", async () => {
  const draft = await Draft.open(calls, { read: () => null, write: () => {}, clear: () => {} });
  const asked: string[] = [];
  // The service puts a mark before the line `two`, wherever that is.
  vi.stubGlobal("fetch", async (request: Request) => {
    const { source } = await request.json();
    asked.push(source);
    if (asked.length === 1) draft.write(MAIN, "typed\none\ntwo\n");
    const line = source.split("\n").indexOf("two") + 1;
    const replaces = { file: MAIN, line, column: 1, length: 0 };
    return Response.json({ changes: [{ replaces, text: "> " }] });
  });
  await act(draft, { do: "remove", gate: "g", rule: "r" });
  expect([draft.text(MAIN), asked.length]).toEqual(["typed\none\n> two\n", 2]);
});
