import { styleTags, tags } from "@lezer/highlight";

/** What each part of a policy is, for whoever draws it. */
export const colours = styleTags({
  Keyword: tags.keyword,
  Text: tags.string,
  Regex: tags.regexp,
  Comment: tags.lineComment,
  Fact: tags.propertyName,
  Literal: tags.number,
  "Declared/Word Title/Text": tags.definition(tags.name),
});
