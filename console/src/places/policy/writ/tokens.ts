import { ExternalTokenizer, type InputStream, type Stack } from "@lezer/lr";
import * as terms from "./writ.grammar.terms";

/** Words of the language, by what they are called in the grammar. */
const KEYWORDS: ReadonlyMap<string, number> = new Map(
  Object.entries(terms)
    .filter(([name]) => /^[a-z_]/.test(name))
    // The generator writes `_case` for `case`, which is a word of JavaScript.
    .map(([name, term]) => [name.replace(/^_/, "").replace("_", "-"), term]),
);

const [NEWLINE, QUOTE, SLASH, DOT, BACKSLASH] = [...'\n"/.\\'].map((c) => c.charCodeAt(0));
const IN_WORDS = /[\p{Alphabetic}\p{N}\-_.:+@$]/u;
const FACT = /^[a-z]+\.[\p{L}\d-]+$/u;
const LITERAL = /^\d|:/;

/**
 * Texts, regular expressions and words. A word is a keyword where the language has one at that place, and a name
 * everywhere else, so that a grant may be called `network`.
 */
export const words = new ExternalTokenizer(
  (input, stack) => {
    if (input.next === QUOTE) quoted(input);
    else if (input.next === SLASH) regex(input);
    else word(input, stack);
  },
  { contextual: true },
);

function quoted(input: InputStream) {
  input.advance();
  while (input.next >= 0 && input.next !== NEWLINE) {
    if (input.next === QUOTE) {
      input.advance();
      return input.acceptToken(terms.Text);
    }
    if (input.next === BACKSLASH) {
      input.advance();
      if (![QUOTE, BACKSLASH, "n".charCodeAt(0)].includes(input.next)) return;
    }
    input.advance();
  }
}

function regex(input: InputStream) {
  let escaped = false;
  for (input.advance(); input.next >= 0 && input.next !== NEWLINE; input.advance()) {
    if (input.next === SLASH && !escaped) {
      input.advance();
      return input.acceptToken(terms.Regex);
    }
    escaped = input.next === BACKSLASH && !escaped;
  }
}

/** A word ends before `..`; a slash belongs to it only before a digit, as in `10.44.0.0/16`. */
function word(input: InputStream, stack: Stack) {
  let text = "";
  for (;;) {
    const next = charAt(input);
    const twoDots = input.next === DOT && input.peek(1) === DOT;
    const slash = input.next === SLASH && text !== "" && isDigit(input.peek(1));
    if (next === "" || twoDots || !(slash || IN_WORDS.test(next))) break;
    text += next;
    input.advance(next.length);
  }
  if (text === "") return;
  const keyword = KEYWORDS.get(text);
  if (keyword !== undefined && stack.canShift(keyword)) return input.acceptToken(keyword);
  if (FACT.test(text) && stack.canShift(terms.Fact)) return input.acceptToken(terms.Fact);
  if (LITERAL.test(text) && stack.canShift(terms.Literal)) return input.acceptToken(terms.Literal);
  input.acceptToken(terms.Word);
}

function isDigit(code: number): boolean {
  return code >= 48 && code <= 57;
}

/** The character there, which may be two units. */
function charAt(input: InputStream): string {
  if (input.next < 0) return "";
  const high = input.next >= 0xd800 && input.next < 0xdc00;
  return high ? String.fromCharCode(input.next, input.peek(1)) : String.fromCharCode(input.next);
}
