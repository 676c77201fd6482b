/** A line that has what was looked for. */
export interface FoundLine {
  file: string;
  line: number;
  column: number;
  text: string;
}

/** Lines that are shown; nobody reads more. */
export const MOST_FOUND = 500;

/** The lines of all files that have a text in them, whatever its case. */
export function findLines(files: Iterable<readonly [string, string]>, wanted: string): FoundLine[] {
  const found: FoundLine[] = [];
  const low = wanted.toLowerCase();
  if (low === "") return found;
  for (const [file, text] of files) {
    const lines = text.split("\n");
    for (const [at, line] of lines.entries()) {
      const column = line.toLowerCase().indexOf(low);
      if (column < 0) continue;
      found.push({ file, line: at + 1, column: [...line.slice(0, column)].length + 1, text: line.trim() });
      if (found.length >= MOST_FOUND) return found;
    }
  }
  return found;
}
