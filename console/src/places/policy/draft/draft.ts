import type { components } from "../../../api/schema";

export type DraftView = components["schemas"]["DraftView"];
export type Edition = components["schemas"]["EditionView"];

export const MAIN = "main.writ";

/** The text of a file: a string, or what an editor keeps of it. */
export interface Content {
  toString(): string;
}

/** What the service keeps, and how it is asked. */
export interface Calls {
  /** One's own draft; none where there is none. */
  draft(): Promise<DraftView | null>;
  active(): Promise<Edition>;
  keep(body: { source: string; included: Record<string, string>; made_from: number }, version: number): Promise<DraftView>;
  forget(version: number): Promise<void>;
}

/** Where what was typed outlives a reload until the service has it. */
export interface Shelf {
  read(): string | null;
  write(text: string): void;
  clear(): void;
}

/** What became of what was typed. */
export type Kept =
  /** The text is that of the active edition, and no draft. */
  | { state: "same" }
  /** It is not kept yet. */
  | { state: "waiting" }
  /** The service has it since. */
  | { state: "kept"; at: string }
  /** It could not be kept, for this reason; it is tried again. */
  | { state: "unkept"; why: string }
  /** Another window wrote the draft too: this text or the other is to be chosen. */
  | { state: "elsewhere"; theirs: DraftView | Edition };

interface Shelved {
  files: [string, string][];
  madeFrom: number;
  version: number;
}

/** How long nothing is typed before the service is told. */
const REST_MS = 600;
/** After what time it is told again where it could not be. */
const AGAIN_MS = 5_000;

/**
 * The policy that somebody writes: a text for each file, kept by the service shortly after it was typed, and on the
 * shelf until then. What is read of it is of one moment and changes as a whole.
 */
export class Draft {
  private files: ReadonlyMap<string, Content>;
  private listeners = new Set<() => void>();
  private timer: ReturnType<typeof setTimeout> | undefined;
  private sending: Promise<void> | undefined;
  private ended = false;
  /** Changes with each change of the text. */
  revision = 0;
  kept: Kept;

  private constructor(
    private readonly calls: Calls,
    private readonly shelf: Shelf,
    text: DraftView | Edition,
    /** The edition that it is made from. */
    public madeFrom: number,
    /** The edition that decides, as far as is known. */
    public active: number,
    /** How often the service was told; 0 where it keeps none. */
    public version: number,
  ) {
    this.files = filesOf(text);
    this.kept = version > 0 && "changed_at" in text ? { state: "kept", at: text.changed_at } : { state: "same" };
  }

  /** What the service keeps, with what was typed in this window and is not kept yet. */
  static async open(calls: Calls, shelf: Shelf): Promise<Draft> {
    const [kept, active] = await Promise.all([calls.draft(), calls.active()]);
    const text = kept ?? active;
    const draft = new Draft(calls, shelf, text, kept?.made_from ?? active.number, active.number, kept?.version ?? 0);
    draft.unshelve(text);
    return draft;
  }

  subscribe = (listener: () => void): (() => void) => {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  };

  /** The paths of its files, the one that it begins with first. */
  get paths(): string[] {
    return [...this.files.keys()];
  }

  content(path: string): Content | undefined {
    return this.files.get(path);
  }

  text(path: string): string {
    return this.files.get(path)?.toString() ?? "";
  }

  /** All of it, as the service takes it. */
  body(): { source: string; included: Record<string, string> } {
    const included = this.paths.filter((path) => path !== MAIN).map((path) => [path, this.text(path)] as const);
    return { source: this.text(MAIN), included: Object.fromEntries(included) };
  }

  /** The same text, as an editor keeps it. */
  hold(path: string, content: Content) {
    this.files = new Map(this.files).set(path, content);
  }

  write(path: string, content: Content) {
    if (this.files.get(path) === content) return;
    this.change(new Map(this.files).set(path, content));
  }

  /** Several texts at once. */
  writeAll(texts: Iterable<readonly [string, Content]>) {
    const files = new Map(this.files);
    for (const [path, text] of texts) files.set(path, text);
    this.change(files);
  }

  remove(path: string) {
    const files = new Map(this.files);
    if (path !== MAIN && files.delete(path)) this.change(files);
  }

  /** Another text in the place of all, made from another edition. */
  replace(text: { source: string; included: Record<string, string> }, madeFrom: number) {
    this.madeFrom = madeFrom;
    this.change(filesOf(text));
  }

  /** Without it: the text of the active edition. */
  async forget() {
    clearTimeout(this.timer);
    // What is under way would be kept after it was forgotten.
    while (this.sending) await this.sending;
    if (this.version > 0) await this.calls.forget(this.version);
    this.take(await this.calls.active());
  }

  /** It is the edition that decides, and the service keeps none any more; what was typed meanwhile is a new one. */
  async activated() {
    clearTimeout(this.timer);
    while (this.sending) await this.sending;
    this.version = 0;
    if (this.open) await this.keep();
    else this.take(await this.calls.active());
  }

  /** Another edition decides, as was seen elsewhere. */
  async saw(active: number) {
    if (active === this.active) return;
    this.active = active;
    const { revision } = this;
    const text = this.kept.state === "same" ? await this.calls.active() : null;
    // Whoever began to write meanwhile goes on.
    if (text && revision === this.revision) this.take(text);
    else this.told(this.kept);
  }

  /** What another window wrote, in the place of this text. */
  takeTheirs() {
    if (this.kept.state === "elsewhere") this.take(this.kept.theirs);
  }

  /** This text, in the place of what another window wrote. */
  async keepMine() {
    if (this.kept.state !== "elsewhere") return;
    const { theirs } = this.kept;
    this.version = "version" in theirs ? theirs.version : 0;
    this.told({ state: "waiting" });
    await this.keep();
  }

  /** What is not kept by the service goes on the shelf, for a page that ends; says whether nothing is lost with it. */
  shelve(): boolean {
    if (!this.open) return true;
    const files = this.paths.map((path) => [path, this.text(path)] as [string, string]);
    const shelved: Shelved = { files, madeFrom: this.madeFrom, version: this.version };
    try {
      this.shelf.write(JSON.stringify(shelved));
      return true;
    } catch {
      // It is full: the service still has what was kept last, and the page asks before it ends.
      return false;
    }
  }

  /** Whether something typed would be lost with this window. */
  get open(): boolean {
    return this.kept.state === "waiting" || this.kept.state === "unkept" || this.kept.state === "elsewhere";
  }

  /** Tells the service now, and says whether it has all. */
  async keep(): Promise<boolean> {
    clearTimeout(this.timer);
    while (this.sending) await this.sending;
    if (this.kept.state === "waiting" || this.kept.state === "unkept") {
      this.sending = this.send();
      await this.sending;
    }
    return !this.open;
  }

  private async send() {
    const revision = this.revision;
    try {
      const view = await this.calls.keep({ ...this.body(), made_from: this.madeFrom }, this.version);
      this.version = view.version;
      this.active = view.active;
      if (revision === this.revision) {
        this.shelf.clear();
        this.told({ state: "kept", at: view.changed_at });
      } else this.soon(REST_MS);
    } catch (error) {
      await this.failed(error);
    } finally {
      this.sending = undefined;
    }
  }

  private async failed(error: unknown) {
    try {
      if (statusOf(error) === 412) {
        const theirs = (await this.calls.draft()) ?? (await this.calls.active());
        this.shelve();
        return this.told({ state: "elsewhere", theirs });
      }
    } catch {
      // It is asked again with the text.
    }
    this.shelve();
    this.told({ state: "unkept", why: error instanceof Error ? error.message : String(error) });
    // Whoever is signed out is told once; it is tried again with what is typed next.
    if (statusOf(error) !== 401) this.soon(AGAIN_MS);
  }

  private take(text: DraftView | Edition) {
    const draft = "version" in text;
    this.madeFrom = draft ? text.made_from : text.number;
    this.active = draft ? text.active : text.number;
    this.version = draft ? text.version : 0;
    this.files = filesOf(text);
    this.revision += 1;
    this.shelf.clear();
    this.told(draft ? { state: "kept", at: text.changed_at } : { state: "same" });
  }

  private change(files: ReadonlyMap<string, Content>) {
    this.files = files;
    this.revision += 1;
    // Where two texts are to be chosen from, none is sent before.
    if (this.kept.state === "elsewhere") return this.told(this.kept);
    this.told({ state: "waiting" });
    this.soon(REST_MS);
  }

  /** Whoever wrote it is signed out: it is told to nobody in their place. */
  end() {
    this.shelve();
    this.ended = true;
    clearTimeout(this.timer);
  }

  private soon(after: number) {
    clearTimeout(this.timer);
    if (this.ended) return;
    this.timer = setTimeout(() => void this.keep(), after);
  }

  private told(kept: Kept) {
    this.kept = { ...kept };
    for (const listener of this.listeners) listener();
  }

  /** What was typed in this window before it was loaded anew. */
  private unshelve(kept: DraftView | Edition) {
    const shelved = read(this.shelf.read());
    if (!shelved) return;
    const files = new Map<string, Content>(shelved.files);
    if (sameFiles(files, this.files)) return this.shelf.clear();
    this.files = files;
    this.madeFrom = shelved.madeFrom;
    if (shelved.version !== this.version) {
      this.kept = { state: "elsewhere", theirs: kept };
      return;
    }
    this.kept = { state: "waiting" };
    this.soon(0);
  }
}

/** The status of a call that was refused. */
function statusOf(error: unknown): number | undefined {
  return typeof error === "object" && error !== null && "status" in error ? Number(error.status) : undefined;
}

function filesOf(text: { source: string; included: Record<string, string> }): ReadonlyMap<string, Content> {
  return new Map([[MAIN, text.source], ...Object.entries(text.included)]);
}

function sameFiles(one: ReadonlyMap<string, Content>, other: ReadonlyMap<string, Content>): boolean {
  return one.size === other.size && [...one].every(([path, text]) => other.get(path)?.toString() === text.toString());
}

function read(text: string | null): Shelved | null {
  try {
    const shelved = JSON.parse(text ?? "null");
    return Array.isArray(shelved?.files) ? shelved : null;
  } catch {
    return null;
  }
}
