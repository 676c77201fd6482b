import type { components } from "../../../api/schema";
import type { Show } from "./TextPage";

/** What happened where a case expected something else, and why. */
export function WhatHappened({ instead, why }: { instead: string; why: readonly string[] }) {
  return (
    <>
      <p>Instead {instead}.</p>
      <ul className="text-soft">
        {why.map((line) => (
          <li key={line}>{line}</li>
        ))}
      </ul>
    </>
  );
}

/** How each case went, failed ones first, and the rules that none reaches. */
export function Cases({ report, show }: { report: components["schemas"]["CheckReport"]; show: Show }) {
  const { uncovered } = report;
  const cases = [...report.cases.filter((one) => one.failure), ...report.cases.filter((one) => !one.failure)];
  if (report.diagnostics.some((found) => found.severity === "error")) {
    return <p className="text-soft">Cases run once the policy has no errors.</p>;
  }
  return (
    <>
      {cases.length === 0 && (
        <p className="text-soft">There are no cases. A decision in the journal makes one by a button, and so does What if.</p>
      )}
      <ul aria-label="Cases">
        {cases.map((one) => (
          <li key={`${one.file} ${one.line}`} className="border-b border-line py-1">
            <button
              type="button"
              className="cursor-pointer text-left hover:underline"
              onClick={() => show(one.file, { line: one.line, column: 1 })}
            >
              <span className={one.failure ? "font-semibold text-rust" : "text-soft"}>{one.failure ? "✗ failed" : "✓"}</span>{" "}
              {one.title}
            </button>
            {one.failure && <WhatHappened instead={one.instead} why={one.why} />}
          </li>
        ))}
      </ul>
      {uncovered.length > 0 && (
        <>
          <h2 className="mt-3 font-semibold">Rules that no case reaches</h2>
          <ul aria-label="Rules that no case reaches">
            {uncovered.slice(0, 200).map((rule) => (
              <li key={`${rule.gate} ${rule.rule}`} className="py-0.5">
                <button
                  type="button"
                  className="cursor-pointer text-left hover:underline"
                  onClick={() => show(rule.file, { line: rule.line, column: 1 })}
                >
                  ○ {rule.rule} <span className="text-soft">of {rule.gate}</span>
                </button>
              </li>
            ))}
          </ul>
          {uncovered.length > 200 && <p className="text-soft">and {uncovered.length - 200} more</p>}
        </>
      )}
    </>
  );
}
