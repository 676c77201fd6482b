import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { type Calls, Draft, type DraftView, type Edition, MAIN, type Shelf } from "./draft";
import { renewDraft } from "./useDraft";

const edition = (number: number, source = "# one\n"): Edition => ({
  number,
  source,
  included: { "a.writ": "# a\n" },
  state: "active",
  created_at: "",
  created_by: "",
  note: "",
  made_from: null,
});

/** A service that keeps one draft, and a window's shelf. */
class Service implements Calls {
  kept: DraftView | null = null;
  now = edition(3);
  down = false;

  async draft() {
    return this.kept;
  }

  async active() {
    return this.now;
  }

  async keep(body: { source: string; included: Record<string, string>; made_from: number }, version: number) {
    if (this.down) throw new Error("The service cannot be reached.");
    if (version !== (this.kept?.version ?? 0)) throw Object.assign(new Error("late"), { status: 412 });
    const told = { author: "kim", active: this.now.number, changed_at: "then", version: version + 1 };
    this.kept = { ...told, ...body };
    return this.kept;
  }

  async forget(version: number) {
    if (version === this.kept?.version) this.kept = null;
  }
}

class Window implements Shelf {
  text: string | null = null;

  read() {
    return this.text;
  }

  write(text: string) {
    this.text = text;
  }

  clear() {
    this.text = null;
  }
}

let service: Service;
let shelf: Window;

beforeEach(() => {
  vi.useFakeTimers();
  service = new Service();
  shelf = new Window();
});

afterEach(() => vi.useRealTimers());

it("nothing is kept before something is typed, and then it is", async () => {
  const draft = await Draft.open(service, shelf);
  expect([draft.paths, draft.kept.state, draft.madeFrom]).toEqual([[MAIN, "a.writ"], "same", 3]);
  draft.write(MAIN, "# two\n");
  expect([draft.kept.state, draft.open]).toEqual(["waiting", true]);
  await vi.advanceTimersByTimeAsync(1_000);
  expect(draft.kept).toEqual({ state: "kept", at: "then" });
  expect([service.kept?.source, service.kept?.made_from, draft.version]).toEqual(["# two\n", 3, 1]);
  await draft.forget();
  expect([service.kept, draft.text(MAIN), draft.kept.state]).toEqual([null, "# one\n", "same"]);
});

it("what is typed while it is being kept is kept after it", async () => {
  const draft = await Draft.open(service, shelf);
  draft.write(MAIN, "1");
  const first = draft.keep();
  draft.write(MAIN, "12");
  await first;
  expect(draft.kept.state).toBe("waiting");
  await vi.advanceTimersByTimeAsync(1_000);
  expect([service.kept?.source, draft.kept.state]).toEqual(["12", "kept"]);
  // Whoever needs all of it kept waits for what is under way.
  draft.write(MAIN, "123");
  void draft.keep();
  draft.write(MAIN, "1234");
  expect([await draft.keep(), service.kept?.source]).toEqual([true, "1234"]);
});

it("a reload loses nothing that was typed", async () => {
  const draft = await Draft.open(service, shelf);
  draft.write(MAIN, "# typed");
  draft.shelve();
  // The page before it is gone.
  vi.clearAllTimers();
  const again = await Draft.open(service, shelf);
  expect([again.text(MAIN), again.kept.state]).toEqual(["# typed", "waiting"]);
  await vi.advanceTimersByTimeAsync(1_000);
  expect([service.kept?.source, shelf.text]).toEqual(["# typed", null]);
});

it("a service that is away is told later, and the text stays", async () => {
  const draft = await Draft.open(service, shelf);
  service.down = true;
  draft.write(MAIN, "# typed");
  await vi.advanceTimersByTimeAsync(1_000);
  expect(draft.kept).toEqual({ state: "unkept", why: "The service cannot be reached." });
  expect(shelf.text).toContain("# typed");
  service.down = false;
  await vi.advanceTimersByTimeAsync(6_000);
  expect([service.kept?.source, draft.kept.state]).toEqual(["# typed", "kept"]);
});

it("of two windows that write, none loses its text before somebody chose", async () => {
  const [mine, other] = [await Draft.open(service, shelf), await Draft.open(service, new Window())];
  other.write(MAIN, "# other");
  await vi.advanceTimersByTimeAsync(1_000);
  mine.write(MAIN, "# mine");
  await vi.advanceTimersByTimeAsync(1_000);
  expect([mine.kept.state, mine.text(MAIN), service.kept?.source]).toEqual(["elsewhere", "# mine", "# other"]);
  mine.write(MAIN, "# mine, more");
  // Whoever loads the page now is asked again.
  mine.shelve();
  const again = await Draft.open(service, shelf);
  expect([again.kept.state, again.text(MAIN)]).toEqual(["elsewhere", "# mine, more"]);
  await again.keepMine();
  expect([service.kept?.source, again.kept.state, shelf.text]).toEqual(["# mine, more", "kept", null]);
  mine.takeTheirs();
  expect(mine.text(MAIN)).toBe("# other");
});

it("a draft that was activated elsewhere is not written over the new edition", async () => {
  const draft = await Draft.open(service, shelf);
  draft.write(MAIN, "# typed");
  await vi.advanceTimersByTimeAsync(1_000);
  draft.write(MAIN, "# typed on");
  draft.shelve();
  service.kept = null;
  service.now = edition(4, "# typed");
  const again = await Draft.open(service, shelf);
  expect([again.kept.state, again.text(MAIN), again.madeFrom]).toEqual(["elsewhere", "# typed on", 3]);
  again.takeTheirs();
  expect([again.text(MAIN), again.madeFrom, again.kept.state]).toEqual(["# typed", 4, "same"]);
});

it("a shelf that cannot be read is none", async () => {
  shelf.text = "{";
  const draft = await Draft.open(service, shelf);
  expect(draft.kept.state).toBe("same");
});

it("another edition that decides is told, and takes the place of a text that nobody changed", async () => {
  const draft = await Draft.open(service, shelf);
  service.now = edition(4, "# four");
  await draft.saw(4);
  expect([draft.text(MAIN), draft.madeFrom, draft.active]).toEqual(["# four", 4, 4]);
  draft.write(MAIN, "# typed");
  service.now = edition(5, "# five");
  await draft.saw(5);
  expect([draft.text(MAIN), draft.madeFrom, draft.active]).toEqual(["# typed", 4, 5]);
});

it("whoever is signed out is told once, and nothing is lost", async () => {
  const draft = await Draft.open(service, shelf);
  const keep = vi.spyOn(service, "keep").mockRejectedValue(Object.assign(new Error("Sign in."), { status: 401 }));
  draft.write(MAIN, "# typed");
  await vi.advanceTimersByTimeAsync(60_000);
  expect([draft.kept.state, keep.mock.calls.length]).toEqual(["unkept", 1]);
  expect(shelf.text).toContain("# typed");
});

it("whoever begins to write while another edition is read goes on", async () => {
  const draft = await Draft.open(service, shelf);
  service.now = edition(4, "# four");
  const seen = draft.saw(4);
  draft.write(MAIN, "# typed");
  await seen;
  expect([draft.text(MAIN), draft.madeFrom, draft.active, draft.kept.state]).toEqual(["# typed", 3, 4, "waiting"]);
});

it("what is forgotten while it is being kept stays forgotten", async () => {
  const draft = await Draft.open(service, shelf);
  draft.write(MAIN, "# typed");
  void draft.keep();
  await draft.forget();
  await vi.advanceTimersByTimeAsync(60_000);
  expect([service.kept, draft.kept.state, draft.text(MAIN)]).toEqual([null, "same", "# one\n"]);
});

/** The draft decides now, and is forgotten. */
function decides(service: { kept: unknown; now: Edition }, active: Edition) {
  service.kept = null;
  service.now = active;
}

it("what is typed while the draft is being activated is a new draft, and nothing else is", async () => {
  const draft = await Draft.open(service, shelf);
  draft.write(MAIN, "# typed");
  await draft.keep();
  decides(service, edition(4, "# typed"));
  await renewDraft(draft);
  expect([draft.kept.state, draft.madeFrom, draft.version]).toEqual(["same", 4, 0]);
  draft.write(MAIN, "# again");
  await draft.keep();
  decides(service, edition(5, "# again"));
  draft.write(MAIN, "# more");
  await renewDraft(draft);
  expect([service.kept?.source, draft.text(MAIN), draft.madeFrom]).toEqual(["# more", "# more", 4]);
});

it("a shelf that is full says so", async () => {
  const draft = await Draft.open(service, shelf);
  expect(draft.shelve()).toBe(true);
  vi.spyOn(shelf, "write").mockImplementation(() => {
    throw new Error("full");
  });
  draft.write(MAIN, "# typed");
  expect(draft.shelve()).toBe(false);
});

it("a draft that ended is kept in nobody else's name", async () => {
  const draft = await Draft.open(service, shelf);
  service.down = true;
  draft.write(MAIN, "# typed");
  await vi.advanceTimersByTimeAsync(1_000);
  draft.end();
  service.down = false;
  await vi.advanceTimersByTimeAsync(60_000);
  expect([service.kept, shelf.text?.includes("# typed")]).toEqual([null, true]);
});
