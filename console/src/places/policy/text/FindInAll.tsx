import { useEffect, useRef, useState } from "react";
import type { Draft } from "../draft/draft";
import { useRested } from "../draft/useRested";
import { useDraftChanges } from "../draft/useDraft";
import { findLines, MOST_FOUND } from "./find";
import type { Show } from "./TextPage";

/** Finds a text in all files of the policy. */
export function FindInAll({ draft, show }: { draft: Draft; show: Show }) {
  const [wanted, setWanted] = useState("");
  const field = useRef<HTMLInputElement>(null);
  useRested(useDraftChanges(draft));
  useEffect(() => field.current?.focus(), []);
  const found = findLines(
    draft.paths.map((path) => [path, draft.text(path)] as const),
    wanted,
  );
  return (
    <>
      <input
        ref={field}
        type="search"
        aria-label="Find in all files"
        placeholder="find in all files"
        value={wanted}
        onChange={(event) => setWanted(event.target.value)}
        className="mb-2 w-full rounded-sm border border-soft bg-sheet px-2 py-0.5"
      />
      {wanted !== "" && (
        <p className="text-soft">
          {found.length === MOST_FOUND ? `${MOST_FOUND} lines and more` : `${found.length} line${found.length === 1 ? "" : "s"}`}
        </p>
      )}
      <ul aria-label="Lines found">
        {found.map((one) => (
          <li key={`${one.file} ${one.line}`}>
            <button
              type="button"
              className="block w-full cursor-pointer truncate py-0.5 text-left hover:underline"
              onClick={() => show(one.file, { ...one, length: [...wanted].length })}
            >
              <span className="text-soft">
                {one.file}:{one.line}
              </span>{" "}
              <span className="font-mono text-xs">{one.text}</span>
            </button>
          </li>
        ))}
      </ul>
    </>
  );
}
