import { autocompletion, closeBrackets, closeBracketsKeymap, completionKeymap } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap, toggleComment } from "@codemirror/commands";
import { bracketMatching, foldGutter, foldKeymap, indentOnInput } from "@codemirror/language";
import { type Diagnostic, forEachDiagnostic, lintGutter, lintKeymap, setDiagnostics } from "@codemirror/lint";
import { highlightSelectionMatches, search, searchKeymap } from "@codemirror/search";
import { Annotation, EditorState, type Extension } from "@codemirror/state";
import {
  drawSelection,
  EditorView,
  highlightActiveLine,
  highlightActiveLineGutter,
  hoverTooltip,
  keymap,
  lineNumbers,
} from "@codemirror/view";
import type { components } from "../../../api/schema";
import { type Draft, MAIN } from "../draft/draft";
import { writ } from "../writ/language";
import { unquoted } from "../writ/names";
import { byFile, changed, difference, offsetOf, type Place, placeOf, rangeOf } from "../writ/places";
import { type ChangedText, completions, hovers, meaningAt } from "./help";
import { look } from "./look";
import { margin, marksOf, setMargin } from "./margin";

type Report = components["schemas"]["CheckReport"];
type Finding = components["schemas"]["DiagnosticReport"];

/** What an editor asks of the page around it. */
export interface Around {
  /** Another file is shown. */
  shown(path: string): void;
  /** What stands at a place shall have another name; now it has this one, or none. */
  rename(place: Place & { file: string; name: string }): void;
  findInAll(): void;
  format(): void;
}

/** A change that came from elsewhere, such as from a table: the draft has it already. */
const fromDraft = Annotation.define<boolean>();

/** The text of a policy being written: one view, and for each file what was done in it. */
export class PolicyEditor {
  readonly view: EditorView;
  path = MAIN;
  private states = new Map<string, EditorState>();
  private report: { of: Report; revision: number } | undefined;
  private readonly leave: () => void;

  constructor(
    parent: HTMLElement,
    private readonly draft: Draft,
    private readonly around: Around,
    private readonly readOnly: boolean,
  ) {
    this.view = new EditorView({ parent, state: this.fresh(MAIN) });
    this.leave = draft.subscribe(() => this.follow());
  }

  destroy() {
    this.leave();
    this.view.destroy();
  }

  /** Shows a file, at a place where one is said. */
  show(path: string, place?: Place & { length?: number }) {
    if (path !== this.path && this.draft.content(path) !== undefined) {
      this.states.set(this.path, this.view.state);
      const state = this.stateOf(path);
      this.path = path;
      this.view.setState(state);
      this.draft.hold(path, this.view.state.doc);
      this.tell();
      this.around.shown(path);
    }
    if (!place) return;
    const from = offsetOf(this.view.state.doc, place);
    const to = place.length ? rangeOf(this.view.state.doc, { ...place, length: place.length }).to : from;
    this.view.dispatch({
      selection: { anchor: from, head: to },
      effects: EditorView.scrollIntoView(from, { y: "center" }),
    });
    this.view.focus();
  }

  /** What the check of a revision of the text found. */
  checked(report: Report, revision: number) {
    this.report = { of: report, revision };
    this.tell();
  }

  /** Makes changes in any of the files. */
  apply(changes: readonly ChangedText[]) {
    for (const [file, list] of byFile(changes)) {
      const state = this.stateOf(file);
      const change = { changes: changed(state.doc, list), userEvent: "input.change" };
      if (file === this.path) {
        this.view.dispatch(change);
        continue;
      }
      const next = state.update(change).state;
      this.states.set(file, next);
      this.draft.write(file, next.doc);
    }
  }

  /** Makes texts of files other ones, so that the cursor stays where it is. */
  rewrite(texts: Iterable<readonly [string, string]>) {
    for (const [file, text] of texts) {
      const before = this.draft.text(file);
      const change = difference(before, text);
      if (!change) continue;
      if (file === this.path) this.view.dispatch({ changes: change, userEvent: "input.change" });
      else this.draft.write(file, text);
    }
  }

  /** Goes to where what stands at the cursor has its name from. */
  async define(offset = this.view.state.selection.main.head) {
    const meaning = await meaningAt(this.draft, this.path, this.view, offset);
    const first = meaning?.occurrences[0];
    if (first) this.show(first.file, first);
  }

  private fresh(path: string): EditorState {
    return EditorState.create({ doc: this.draft.text(path), extensions: this.extensions(path) });
  }

  /** What was done in a file, with what was changed in it elsewhere since. */
  private stateOf(file: string): EditorState {
    if (file === this.path) return this.view.state;
    const state = this.states.get(file) ?? this.fresh(file);
    const change = difference(state.doc.toString(), this.draft.text(file));
    return change ? state.update({ changes: change }).state : state;
  }

  /** What was changed elsewhere is changed here too. */
  private follow() {
    const content = this.draft.content(this.path);
    if (content === undefined) return this.show(this.draft.paths[0] ?? this.path);
    if (content === this.view.state.doc) return;
    const change = difference(this.view.state.doc.toString(), content.toString());
    if (change) this.view.dispatch({ changes: change, annotations: fromDraft.of(true) });
    this.draft.hold(this.path, this.view.state.doc);
  }

  private tell() {
    const { report } = this;
    // Places of an older text would be wrong ones; a newer check is under way.
    if (!report || report.revision !== this.draft.revision) return;
    const { doc } = this.view.state;
    const found = report.of.diagnostics.filter((one) => one.file === this.path && one.line > 0);
    this.view.dispatch(
      setDiagnostics(
        this.view.state,
        found.map((one) => this.diagnostic(one)),
      ),
    );
    this.view.dispatch({ effects: setMargin.of(marksOf(report.of, this.path, doc)) });
  }

  private diagnostic(found: Finding): Diagnostic {
    const { edit } = found;
    const { from, to } = rangeOf(this.view.state.doc, found);
    const message = [`${found.code}: ${found.message}`, ...found.notes].join("\n");
    const severity = found.severity === "error" ? "error" : "warning";
    const mend = edit && !this.readOnly && { name: edit.what, apply: () => this.mend(found) };
    return { from, to: Math.max(to, from + 1, from), severity, message, ...(mend ? { actions: [mend] } : {}) };
  }

  /** Makes the change that mends a finding. */
  mend(found: Finding) {
    if (!found.edit || this.report?.revision !== this.draft.revision) return;
    const changes = found.edit.changes.map(({ text, ...replaces }) => ({ replaces: { ...replaces, file: found.file }, text }));
    this.apply(changes);
    this.view.focus();
  }

  /** The change that mends what is at the cursor. */
  private mendHere = (): boolean => {
    const line = this.view.state.doc.lineAt(this.view.state.selection.main.head);
    let act: (() => void) | undefined;
    forEachDiagnostic(this.view.state, (diagnostic, from) => {
      const [action] = diagnostic.actions ?? [];
      if (!act && action && from >= line.from && from <= line.to) act = () => action.apply(this.view, from, from);
    });
    act?.();
    return act !== undefined;
  };

  /** Asks for another name for what stands at the cursor. */
  rename = async () => {
    const { state } = this.view;
    const { head } = state.selection.main;
    const meaning = await meaningAt(this.draft, this.path, this.view, head);
    const ranges = (meaning?.occurrences ?? []).filter(({ file }) => file === this.path).map((one) => rangeOf(state.doc, one));
    const here = ranges.find(({ from, to }) => from <= head && head <= to);
    const name = here ? unquoted(state.sliceDoc(here.from, here.to)) : "";
    this.around.rename({ file: this.path, ...placeOf(state.doc, head), name });
  };

  private extensions(path: string): Extension[] {
    const { draft } = this;
    const file = () => this.path;
    const own = [
      { key: "F12", run: does(() => void this.define()) },
      { key: "Mod-Shift-f", run: does(() => this.around.findInAll()) },
    ];
    const writing = [
      { key: "Mod-.", run: this.mendHere },
      { key: "F2", run: does(() => void this.rename()) },
      { key: "Shift-Alt-f", run: does(() => this.around.format()) },
      { key: "Mod-/", run: toggleComment },
    ];
    return [
      writ(),
      look,
      lineNumbers(),
      margin,
      lintGutter(),
      foldGutter({ openText: "▾", closedText: "▸" }),
      history(),
      drawSelection(),
      highlightActiveLine(),
      highlightActiveLineGutter(),
      highlightSelectionMatches(),
      bracketMatching(),
      indentOnInput(),
      search({ top: true }),
      EditorView.lineWrapping,
      EditorState.tabSize.of(2),
      EditorView.contentAttributes.of({ "aria-label": `Text of ${path}`, spellcheck: "false", tabindex: "0" }),
      hoverTooltip(hovers(draft, file)),
      this.readOnly
        ? [EditorState.readOnly.of(true)]
        : [
            closeBrackets(),
            autocompletion({ override: [completions(draft, file)], icons: false }),
            keymap.of(closeBracketsKeymap),
          ],
      keymap.of([
        ...own,
        ...(this.readOnly ? [] : writing),
        ...completionKeymap,
        ...searchKeymap,
        ...foldKeymap,
        ...lintKeymap,
        ...historyKeymap,
        ...defaultKeymap,
      ]),
      EditorView.updateListener.of((update) => {
        if (update.docChanged && !update.transactions.some((one) => one.annotation(fromDraft))) {
          draft.write(this.path, update.state.doc);
        }
      }),
      EditorView.domEventHandlers({
        mousedown: (event, view) => {
          if (!(event.ctrlKey || event.metaKey)) return false;
          const offset = view.posAtCoords({ x: event.clientX, y: event.clientY });
          if (offset !== null) void this.define(offset);
          return offset !== null;
        },
      }),
    ];
  }
}

/** What a key does, so that nothing else does something too. */
function does(act: () => void): () => boolean {
  return () => {
    act();
    return true;
  };
}
