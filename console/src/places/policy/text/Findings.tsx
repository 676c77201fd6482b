import { useQuery } from "@tanstack/react-query";
import { api, dataOf } from "../../../api/client";
import type { components } from "../../../api/schema";
import type { Show } from "./TextPage";

type Report = components["schemas"]["CheckReport"];
type Finding = components["schemas"]["DiagnosticReport"];

/** What the check found, each with its place, what its code means, and the change that mends it. */
export function Findings(props: { report: Report; show: Show; mend?: (found: Finding) => void }) {
  const { report, show, mend } = props;
  const codes = useQuery({
    queryKey: ["codes"],
    queryFn: async () => dataOf(await api.GET("/api/v1/policy/codes")),
    staleTime: Number.POSITIVE_INFINITY,
  });
  if (report.diagnostics.length === 0) {
    return (
      <p className="text-soft">
        Nothing is wrong. A decision takes at most {report.comparisons} comparison{report.comparisons === 1 ? "" : "s"}.
      </p>
    );
  }
  const errors = report.diagnostics.filter((found) => found.severity === "error");
  const others = report.diagnostics.filter((found) => found.severity !== "error");
  return (
    <ul>
      {[...errors, ...others].map((found) => (
        <li
          key={`${found.file} ${found.line} ${found.column} ${found.code} ${found.message}`}
          className="border-b border-line py-2"
        >
          <button type="button" className="cursor-pointer text-left hover:underline" onClick={() => show(found.file, found)}>
            <span className={found.severity === "error" ? "font-semibold text-rust" : "font-semibold text-ochre"}>
              {found.severity} {found.code}
            </span>{" "}
            {found.message}
          </button>
          <p className="text-soft">
            {found.file}, line {found.line}
          </p>
          {found.notes.map((note) => (
            <p key={note}>{note}</p>
          ))}
          {found.edit && mend && (
            <button type="button" className="my-1 cursor-pointer text-deep underline" onClick={() => mend(found)}>
              {found.edit.what}
            </button>
          )}
          <details>
            <summary className="cursor-pointer text-soft">What this means</summary>
            {codes.data?.codes.find((help) => help.code === found.code)?.text}
          </details>
        </li>
      ))}
    </ul>
  );
}
