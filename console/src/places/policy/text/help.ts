import type { Completion, CompletionContext, CompletionResult } from "@codemirror/autocomplete";
import type { EditorView, Tooltip } from "@codemirror/view";
import { api, dataOf } from "../../../api/client";
import type { components } from "../../../api/schema";
import type { Draft } from "../draft/draft";
import { placeOf, rangeOf } from "../writ/places";

export type Meaning = components["schemas"]["MeaningView"];
export type ChangedText = components["schemas"]["ChangedText"];

/** What is asked of the service about a place in a file. */
export function placeIn(draft: Draft, file: string, view: EditorView, offset: number) {
  return { ...draft.body(), file, ...placeOf(view.state.doc, offset) };
}

const TYPES: Record<string, string> = { name: "variable", value: "constant", fact: "property", word: "keyword" };

/** What may stand where somebody types, as the service says. */
export function completions(draft: Draft, file: () => string) {
  return async (context: CompletionContext): Promise<CompletionResult | null> => {
    const { explicit, pos, view } = context;
    if (!view || (!explicit && !context.matchBefore(/[\w".:-]$/))) return null;
    const body = placeIn(draft, file(), view, pos);
    const { replaces, items } = dataOf(await api.POST("/api/v1/policy/completion", { body }));
    if (items.length === 0 || context.aborted) return null;
    const options = items.map(
      ({ text, kind, detail }, place): Completion => ({
        label: text,
        detail: short(detail.startsWith(`${text}: `) ? detail.slice(text.length + 2) : detail),
        type: TYPES[kind] ?? "text",
        // As the service orders them: names before words of the language.
        boost: -Math.min(place, 99),
      }),
    );
    return { ...rangeOf(context.state.doc, replaces), options, validFor: /^"?[\w.:@-]*$/ };
  };
}

const LONGEST_DETAIL = 60;

function short(detail: string): string {
  return detail.length > LONGEST_DETAIL ? `${detail.slice(0, LONGEST_DETAIL - 1)}…` : detail;
}

/** What stands at a place; nothing where the service knows nothing of it, or cannot be asked. */
export async function meaningAt(draft: Draft, file: string, view: EditorView, offset: number): Promise<Meaning | null> {
  try {
    const body = placeIn(draft, file, view, offset);
    return dataOf(await api.POST("/api/v1/policy/meaning", { body }));
  } catch {
    return null;
  }
}

/** What stands under the pointer, in words. */
export function hovers(draft: Draft, file: () => string) {
  return async (view: EditorView, pos: number): Promise<Tooltip | null> => {
    const meaning = await meaningAt(draft, file(), view, pos);
    if (!meaning?.title) return null;
    const { title, text } = meaning;
    return { pos, create: () => ({ dom: told(title, text) }) };
  };
}

function told(title: string, text: string): HTMLElement {
  const box = document.createElement("div");
  box.className = "max-w-xl p-3 text-sm";
  const head = document.createElement("p");
  head.className = "font-semibold";
  head.textContent = title;
  const body = document.createElement("p");
  body.className = "whitespace-pre-wrap";
  body.textContent = text;
  box.append(head, body);
  return box;
}
