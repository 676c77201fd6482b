import { type Extension, type Range, RangeSet, StateEffect, StateField, type Text } from "@codemirror/state";
import { gutter, GutterMarker } from "@codemirror/view";
import type { components } from "../../../api/schema";

type Report = components["schemas"]["CheckReport"];

/** What stands beside a line: a case that passed or failed, or a rule that no case reaches. */
class Beside extends GutterMarker {
  constructor(
    private readonly sign: string,
    private readonly meaning: string,
    private readonly failed = false,
  ) {
    super();
  }

  override eq(other: Beside) {
    return other.sign === this.sign && other.meaning === this.meaning;
  }

  override toDOM() {
    const mark = document.createElement("span");
    mark.textContent = this.sign;
    mark.title = this.meaning;
    if (this.failed) mark.className = "cm-case-failed";
    return mark;
  }
}

const PASSED = new Beside("✓", "This case passes.");
const UNCOVERED = new Beside("○", "No case reaches this rule.");

export const setMargin = StateEffect.define<RangeSet<GutterMarker>>();

const marks = StateField.define<RangeSet<GutterMarker>>({
  create: () => RangeSet.empty,
  update: (value, transaction) => {
    const set = transaction.effects.find((effect) => effect.is(setMargin));
    return set ? set.value : value.map(transaction.changes);
  },
});

/** What a check says of the lines of a file. */
export function marksOf(report: Report, file: string, doc: Text): RangeSet<GutterMarker> {
  const found: Range<GutterMarker>[] = [];
  const add = (line: number, mark: GutterMarker) => {
    if (line >= 1 && line <= doc.lines) found.push(mark.range(doc.line(line).from));
  };
  for (const one of report.cases.filter((one) => one.file === file)) {
    add(one.line, one.failure ? new Beside("✗", [`Instead ${one.instead}.`, ...one.why].join("\n"), true) : PASSED);
  }
  for (const rule of report.uncovered.filter((rule) => rule.file === file)) add(rule.line, UNCOVERED);
  return RangeSet.of(found, true);
}

export const margin: Extension = [marks, gutter({ class: "cm-cases", markers: (view) => view.state.field(marks) })];
