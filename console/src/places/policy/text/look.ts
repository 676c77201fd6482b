import { EditorView } from "@codemirror/view";

/** How the editor looks: the page's own tints, light and dark. */
export const look = EditorView.theme({
  "&": { height: "100%", backgroundColor: "var(--sheet)", color: "var(--ink)", fontSize: "13px" },
  "&.cm-focused": { outline: "2px solid var(--deep)", outlineOffset: "1px" },
  ".cm-scroller": { fontFamily: "var(--font-mono, ui-monospace, monospace)", lineHeight: "1.55" },
  ".cm-content": { caretColor: "var(--ink)" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  "&.cm-focused > .cm-scroller > .cm-selectionLayer .cm-selectionBackground, .cm-selectionBackground": {
    backgroundColor: "color-mix(in srgb, var(--deep) 25%, transparent)",
  },
  ".cm-gutters": { backgroundColor: "var(--paper)", color: "var(--soft)", borderRight: "1px solid var(--line)" },
  ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "color-mix(in srgb, var(--tint) 60%, transparent)" },
  ".cm-matchingBracket, &.cm-focused .cm-matchingBracket": {
    backgroundColor: "var(--tint)",
    outline: "1px solid var(--soft)",
  },
  ".cm-searchMatch": { backgroundColor: "color-mix(in srgb, var(--ochre) 30%, transparent)" },
  ".cm-searchMatch-selected": { outline: "1px solid var(--ochre)" },
  ".cm-tooltip": {
    backgroundColor: "var(--sheet)",
    color: "var(--ink)",
    border: "1px solid var(--soft)",
    borderRadius: "2px",
    fontFamily: "var(--font-sans, sans-serif)",
  },
  ".cm-tooltip-autocomplete > ul": { fontFamily: "var(--font-mono, ui-monospace, monospace)", maxHeight: "16em" },
  ".cm-tooltip-autocomplete > ul > li[aria-selected]": { backgroundColor: "var(--deep)", color: "var(--paper)" },
  ".cm-completionDetail": { fontFamily: "var(--font-sans, sans-serif)", fontStyle: "normal", opacity: "0.85" },
  ".cm-completionMatchedText": { textDecoration: "none", fontWeight: "700" },
  ".cm-panels": { backgroundColor: "var(--paper)", color: "var(--ink)", borderColor: "var(--line)" },
  ".cm-panel input": { backgroundColor: "var(--sheet)", border: "1px solid var(--soft)", color: "var(--ink)" },
  ".cm-panel button": { backgroundImage: "none", backgroundColor: "var(--tint)", color: "var(--ink)", border: "none" },
  ".cm-panel label": { color: "var(--ink)" },
  ".cm-foldPlaceholder": { backgroundColor: "var(--tint)", border: "none", color: "var(--soft)" },
  ".cm-diagnostic": { borderLeft: "3px solid var(--soft)", padding: "6px 10px", maxWidth: "36rem" },
  ".cm-diagnostic-error": { borderLeftColor: "var(--rust)" },
  ".cm-diagnostic-warning": { borderLeftColor: "var(--ochre)" },
  ".cm-diagnosticAction": { backgroundColor: "var(--deep)", color: "var(--paper)", borderRadius: "2px", padding: "2px 8px" },
  ".cm-lintRange-error": { backgroundImage: "none", textDecoration: "underline wavy var(--rust)" },
  ".cm-lintRange-warning": { backgroundImage: "none", textDecoration: "underline wavy var(--ochre)" },
  // The service's pages load no pictures made of text, as these markers are where nobody says otherwise.
  ".cm-gutter-lint .cm-lint-marker": { content: "normal", width: "auto", textAlign: "center", fontWeight: "700" },
  ".cm-lint-marker-error::after": { content: "'✗'", color: "var(--rust)" },
  ".cm-lint-marker-warning::after": { content: "'!'", color: "var(--ochre)" },
  ".cm-cases": { width: "1.4em", textAlign: "center" },
  ".cm-case-failed": { color: "var(--rust)", fontWeight: "700" },
});
