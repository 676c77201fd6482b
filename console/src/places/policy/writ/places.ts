import { Text } from "@codemirror/state";

/** A place as the service counts it: lines and characters, both from 1. */
export interface Place {
  line: number;
  column: number;
}

/** A stretch of a file: where it begins, and how many characters it has, ends of lines among them. */
export interface Stretch extends Place {
  length: number;
}

/** Where a place is in a text, in its units; the nearest that there is. */
export function offsetOf(doc: Text, place: Place): number {
  const line = doc.line(Math.min(Math.max(place.line, 1), doc.lines));
  return Math.min(line.from + units(line.text, place.column - 1), line.to);
}

/** From where to where a stretch goes. */
export function rangeOf(doc: Text, stretch: Stretch): { from: number; to: number } {
  const from = offsetOf(doc, stretch);
  // As many units are enough where every character is one.
  let left = stretch.length;
  let to = from;
  while (left > 0 && to < doc.length) {
    const piece = doc.sliceString(to, Math.min(to + left, doc.length));
    const whole = /[\ud800-\udbff]$/.test(piece) && to + piece.length < doc.length ? piece.slice(0, -1) : piece;
    if (whole === "") {
      to += 2;
      left -= 1;
      continue;
    }
    to += whole.length;
    left -= [...whole].length;
  }
  return { from, to };
}

/** The place of an offset. */
export function placeOf(doc: Text, offset: number): Place {
  const line = doc.lineAt(offset);
  return { line: line.number, column: [...line.text.slice(0, offset - line.from)].length + 1 };
}

/** How many units some characters have. */
function units(text: string, characters: number): number {
  if (!/[\ud800-\udbff]/.test(text)) return Math.max(characters, 0);
  return [...text].slice(0, Math.max(characters, 0)).join("").length;
}

/** A text put in the place of another. */
export interface Changed {
  replaces: Stretch;
  text: string;
}

/** A file with changes made, of which none overlaps another. */
export function changed(doc: Text, changes: readonly Changed[]): { from: number; to: number; insert: string }[] {
  return changes.map(({ replaces, text }) => ({ ...rangeOf(doc, replaces), insert: text }));
}

/** The one change that makes a text of another: what is the same at both ends stays. */
export function difference(before: string, after: string): { from: number; to: number; insert: string } | null {
  if (before === after) return null;
  const most = Math.min(before.length, after.length);
  let start = 0;
  while (start < most && before[start] === after[start]) start++;
  let end = 0;
  while (end < most - start && before[before.length - 1 - end] === after[after.length - 1 - end]) end++;
  return { from: start, to: before.length - end, insert: after.slice(start, after.length - end) };
}

/** A text with changes made. */
export function made(text: string, changes: readonly Changed[]): string {
  const doc = Text.of(text.split("\n"));
  const ranges = changed(doc, changes).sort((one, other) => other.from - one.from);
  return ranges.reduce((done, { from, to, insert }) => done.slice(0, from) + insert + done.slice(to), doc.toString());
}

/** Changes by the files that they are made in. */
export function byFile<Change extends { replaces: { file: string } }>(changes: readonly Change[]): Map<string, Change[]> {
  const files = new Map<string, Change[]>();
  for (const change of changes) files.set(change.replaces.file, [...(files.get(change.replaces.file) ?? []), change]);
  return files;
}
