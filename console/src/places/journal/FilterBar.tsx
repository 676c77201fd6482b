import { ToggleGroup } from "radix-ui";
import { useEffect, useEffectEvent, useRef, useState } from "react";
import type { Entry } from "../../api/client";
import { type Filter, OUTCOMES, outcomesOf, readFilter, toCsv } from "./entries";

const PAUSE_MS = 200;

/** Search, outcomes, and what leads out of the journal. */
export function FilterBar(props: { filter: Filter; entries: Entry[]; connected: boolean; change: (filter: Filter) => void }) {
  const { filter, change } = props;
  const shown = filter.q ?? "";
  const [text, setText] = useState(shown);
  // What was asked for last: another filter than that came from a link, or from the way back.
  const asked = useRef(shown);
  const follow = useEffectEvent(() => {
    if (shown === asked.current) return;
    asked.current = shown;
    setText(shown);
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: it follows when what is shown changes.
  useEffect(() => follow(), [shown]);
  const ask = useEffectEvent(() => {
    asked.current = text.trim();
    change(readFilter({ ...filter, q: text.trim() }));
  });
  useEffect(() => {
    if (text.trim() === asked.current) return;
    const wait = setTimeout(() => ask(), PAUSE_MS);
    return () => clearTimeout(wait);
  }, [text]);
  return (
    <header className="sticky top-0 z-20 -mt-6 mb-2 flex flex-wrap items-center gap-x-4 gap-y-2 border-b border-ink bg-paper py-3">
      <h1 className="font-serif text-2xl">Journal</h1>
      <input
        type="search"
        aria-label="Find in the journal"
        placeholder="Name, MAC, equipment …"
        value={text}
        onChange={(event) => setText(event.target.value)}
        className="w-52 rounded-sm border border-soft bg-sheet px-3 py-1"
      />
      <ToggleGroup.Root
        type="multiple"
        aria-label="Outcome"
        value={outcomesOf(filter)}
        onValueChange={(outcomes) => change(readFilter({ ...filter, outcome: outcomes.join(",") }))}
        className="flex gap-0.5"
      >
        {OUTCOMES.map((outcome) => (
          <ToggleGroup.Item
            key={outcome}
            value={outcome}
            className="cursor-pointer rounded-sm px-1.5 py-0.5 text-soft hover:bg-tint data-[state=on]:bg-deep data-[state=on]:text-paper"
          >
            {outcome}
          </ToggleGroup.Item>
        ))}
      </ToggleGroup.Root>
      <span className="ml-auto flex items-baseline gap-3 text-sm text-soft">
        <Export name="CSV" type="text/csv" make={() => toCsv(props.entries)} />
        <Export name="JSON" type="application/json" make={() => JSON.stringify(props.entries, null, 2)} />
        <span role="status">{props.connected ? "live" : "not live"}</span>
      </span>
    </header>
  );
}

function Export({ name, type, make }: { name: string; type: string; make: () => string }) {
  const save = () => {
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([make()], { type }));
    link.download = `journal.${name.toLowerCase()}`;
    link.click();
    URL.revokeObjectURL(link.href);
  };
  return (
    <button type="button" onClick={save} className="cursor-pointer text-deep hover:underline">
      {name}
    </button>
  );
}
