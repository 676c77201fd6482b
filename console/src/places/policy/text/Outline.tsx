import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef, useState } from "react";
import type { components } from "../../../api/schema";
import { anchor } from "../writ/names";
import type { Show } from "./TextPage";

type Item = components["schemas"]["ItemView"];

const HEIGHT = 24;

/** What the policy declares; of a long one the lines in sight are drawn. */
export function Outline({ items, show }: { items: readonly Item[]; show: Show }) {
  const [filter, setFilter] = useState("");
  const list = useRef<HTMLDivElement>(null);
  const wanted = filter.toLowerCase();
  const shown = items.filter((item) => item.name !== "" && anchor(item).toLowerCase().includes(wanted));
  const lines = useVirtualizer({
    count: shown.length,
    getScrollElement: () => list.current,
    estimateSize: () => HEIGHT,
    overscan: 10,
  });
  return (
    <nav aria-label="What the policy declares" className="flex h-full flex-col">
      <input
        type="search"
        aria-label="Filter what is declared"
        placeholder="rule, grant, name"
        value={filter}
        onChange={(event) => setFilter(event.target.value)}
        className="mb-2 rounded-sm border border-soft bg-sheet px-2 py-0.5"
      />
      <div ref={list} className="min-h-0 flex-1 overflow-y-auto">
        <ul className="relative" style={{ height: lines.getTotalSize() }}>
          {lines.getVirtualItems().map(({ index, start }) => {
            const item = shown[index];
            if (!item) return null;
            return (
              <li key={index} className="absolute inset-x-0" style={{ height: HEIGHT, transform: `translateY(${start}px)` }}>
                <button
                  type="button"
                  onClick={() => show(item.file, { line: item.line, column: 1 })}
                  className={`block w-full cursor-pointer truncate text-left hover:underline ${item.gate ? "pl-3" : ""}`}
                >
                  {item.kind !== "rule" && <span className="text-soft">{item.kind} </span>}
                  {item.name}
                </button>
              </li>
            );
          })}
        </ul>
      </div>
    </nav>
  );
}
