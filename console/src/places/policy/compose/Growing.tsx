import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { highlightCode, tagHighlighter, tags } from "@lezer/highlight";
import { Fragment, type ReactNode } from "react";
import { api, dataOf } from "../../../api/client";
import { type Draft, MAIN } from "../draft/draft";
import { useRested } from "../draft/useRested";
import { byFile, made } from "../writ/places";
import { parser } from "../writ/writ.grammar";
import type { Composed } from "./ComposePage";

const TINTS = tagHighlighter([
  { tag: tags.keyword, class: "font-semibold text-deep" },
  { tag: [tags.string, tags.regexp], class: "text-rust" },
  { tag: tags.propertyName, class: "text-ochre" },
]);

/** What is put together as Writ, while it grows, and what the check says of it in its place. */
export function Growing({ draft, composed }: { draft: Draft; composed: Composed }) {
  const { text, missing } = composed;
  const rested = useRested(JSON.stringify(composed.act));
  const check = useQuery({
    queryKey: ["check of what is composed", draft.revision, rested],
    enabled: missing === "",
    queryFn: async () => {
      const body = draft.body();
      const { changes } = dataOf(await api.POST("/api/v1/policy/act", { body: { ...body, act: JSON.parse(rested) } }));
      const files = { ...body, included: { ...body.included } };
      for (const [file, list] of byFile(changes)) {
        if (file === MAIN) files.source = made(files.source, list);
        else files.included[file] = made(files.included[file] ?? "", list);
      }
      const [before, after] = await Promise.all([
        api.POST("/api/v1/policy/check", { body }).then(dataOf),
        api.POST("/api/v1/policy/check", { body: files }).then(dataOf),
      ]);
      const known = new Set(before.diagnostics.map((found) => `${found.code} ${found.message}`));
      const failed = new Set(before.cases.filter((one) => one.failure).map((one) => one.title));
      return {
        found: after.diagnostics.filter((found) => !known.has(`${found.code} ${found.message}`)),
        failed: after.cases.filter((one) => one.failure && !failed.has(one.title)),
      };
    },
    placeholderData: keepPreviousData,
    gcTime: 1_000,
  });
  return (
    <section aria-label="As Writ">
      <h3 className="mb-1 font-semibold">As Writ</h3>
      <pre className="overflow-x-auto border border-line bg-sheet p-3 font-mono text-[13px] leading-5 whitespace-pre-wrap">
        {coloured(text)}
      </pre>
      <div role="status" className="mt-2 text-sm">
        {missing && <p className="text-soft">{missing}</p>}
        {!missing && check.error && <p className="text-rust">{check.error.message}</p>}
        {!missing && check.data && check.data.found.length + check.data.failed.length === 0 && (
          <p className="text-soft">The check finds nothing wrong with it.</p>
        )}
        {!missing &&
          check.data?.found.map((found) => (
            <p key={`${found.code} ${found.message}`} className={found.severity === "error" ? "text-rust" : "text-ochre"}>
              {found.severity} {found.code}: {found.message}
            </p>
          ))}
        {!missing &&
          check.data?.failed.map((one) => (
            <p key={one.title} className="text-rust">
              The case “{one.title}” fails with it.
            </p>
          ))}
      </div>
    </section>
  );
}

function coloured(text: string): ReactNode[] {
  const pieces: ReactNode[] = [];
  const put = (piece: string, tint: string) =>
    pieces.push(
      <span key={pieces.length} className={tint}>
        {piece}
      </span>,
    );
  // A rule by itself is read as one of a gate.
  const around = text.startsWith("rule ") ? ["gate g { ", " }"] : ["", ""];
  const [before = "", after = ""] = around;
  const whole = before + text + after;
  let skip = before.length;
  let left = text.length;
  highlightCode(
    whole,
    parser.parse(whole),
    TINTS,
    (code, tint) => {
      const piece = code.slice(Math.min(skip, code.length)).slice(0, left);
      skip -= Math.min(skip, code.length);
      left -= piece.length;
      if (piece) put(piece, tint);
    },
    () => {
      if (left > 0) pieces.push(<Fragment key={pieces.length}>{"\n"}</Fragment>);
      left -= 1;
    },
  );
  return pieces;
}
