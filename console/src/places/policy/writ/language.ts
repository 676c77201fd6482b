import {
  delimitedIndent,
  foldInside,
  foldNodeProp,
  HighlightStyle,
  indentNodeProp,
  LanguageSupport,
  LRLanguage,
  syntaxHighlighting,
} from "@codemirror/language";
import { tags } from "@lezer/highlight";
import { parser } from "./writ.grammar";

const language = LRLanguage.define({
  name: "writ",
  parser: parser.configure({
    props: [
      indentNodeProp.add({ "Block Set": delimitedIndent({ closing: "}" }), Parens: delimitedIndent({ closing: ")" }) }),
      foldNodeProp.add({ "Block Set": foldInside }),
    ],
  }),
  languageData: {
    commentTokens: { line: "#" },
    closeBrackets: { brackets: ["(", "{", '"'] },
    indentOnInput: /^\s*\}$/,
  },
});

/** The same tints as elsewhere on the page; told by weight and slope too. */
const style = HighlightStyle.define([
  { tag: tags.keyword, color: "var(--deep)", fontWeight: "600" },
  { tag: [tags.string, tags.regexp], color: "var(--rust)" },
  { tag: tags.lineComment, color: "var(--soft)", fontStyle: "italic" },
  { tag: tags.propertyName, color: "var(--ochre)" },
  { tag: tags.definition(tags.name), fontWeight: "600" },
]);

export function writ(): LanguageSupport {
  return new LanguageSupport(language, syntaxHighlighting(style));
}
