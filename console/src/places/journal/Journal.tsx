import { useNavigate, useSearch } from "@tanstack/react-router";
import { type KeyboardEvent, useMemo, useRef, useState } from "react";
import type { Entry } from "../../api/client";
import { Notice } from "../../parts/Notice";
import { type Filter, matches, merge, updatesOf } from "./entries";
import { FilterBar } from "./FilterBar";
import { Row } from "./Row";
import { useJournal } from "./useJournal";
import { useLive } from "./useLive";

/** How many new entries a page keeps that was never read anew. */
const KEPT = 500;

/** The journal: a column of sentences, newest first, live. */
export function Journal() {
  const filter = useSearch({ from: "/inside/journal" });
  const navigate = useNavigate();
  const journal = useJournal(filter);
  const [live, setLive] = useState<Entry[]>([]);
  const [waiting, setWaiting] = useState<Entry[]>([]);
  const pointed = useRef(false);
  const pages = journal.data?.pages.flat();
  const entries = useMemo(
    // What an earlier filter left behind is filtered too, until the service has answered.
    () => merge(pages ?? [], live).filter((entry) => matches(entry, filter)),
    [pages, live, filter],
  );
  const held = waiting.filter((entry) => matches(entry, filter));
  const show = (fresh: Entry[]) => setLive((shown) => merge(shown, fresh).slice(0, KEPT));

  const connected = useLive(
    filter,
    (entry) => {
      // Nothing may move under the pointer or above what is being read.
      const steady = pointed.current || window.scrollY > 0;
      if (steady && updatesOf(entries, [entry]).length === 0) setWaiting((list) => merge(list, [entry]).slice(0, KEPT));
      else show([entry]);
    },
    () => void journal.refetch(),
  );
  const release = () => {
    show(waiting);
    setWaiting([]);
    window.scrollTo({ top: 0 });
  };

  return (
    <>
      <title>Journal · Regnant</title>
      <FilterBar
        filter={filter}
        entries={entries}
        connected={connected}
        change={(next) => void navigate({ to: "/journal", search: next, replace: true })}
      />
      {journal.error && <Notice title="The journal cannot be read" text={journal.error.message} />}
      {held.length > 0 && (
        <button
          type="button"
          onClick={release}
          className="sticky top-16 z-20 mb-2 w-full cursor-pointer rounded-sm bg-tint py-1 text-deep"
        >
          {held.length === 1 ? "1 new entry" : `${held.length} new entries`}: show
        </button>
      )}
      {pages && entries.length === 0 && <Empty filter={filter} />}
      <ol
        aria-label="Journal"
        onKeyDown={walk}
        onPointerEnter={() => {
          pointed.current = true;
        }}
        onPointerLeave={() => {
          pointed.current = false;
        }}
      >
        {entries.map((entry) => (
          <Row key={entry.id} entry={entry} />
        ))}
      </ol>
      {journal.hasNextPage && (
        <button
          type="button"
          disabled={journal.isFetchingNextPage}
          onClick={() => void journal.fetchNextPage()}
          className="mt-4 cursor-pointer text-deep hover:underline"
        >
          Older entries
        </button>
      )}
    </>
  );
}

function Empty({ filter }: { filter: Filter }) {
  if (filter.q || filter.outcome) {
    return <Notice title="No entry fits" text="Take words away, or choose all outcomes." />;
  }
  return (
    <Notice title="Nobody has asked yet" text="Ask the service as equipment would, from its address and with its secret:">
      <pre className="mt-3 overflow-x-auto rounded-sm bg-tint p-3 font-mono text-sm">
        regnant try mac --server SERVER --from ADDRESS --secret SECRET --mac 02-00-5E-20-00-07
      </pre>
    </Notice>
  );
}

/** Up and down walk from entry to entry; Enter opens, as on every link. */
function walk(event: KeyboardEvent<HTMLOListElement>) {
  const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
  if (!step) return;
  const links = [...event.currentTarget.querySelectorAll<HTMLAnchorElement>("li > a")];
  const row = document.activeElement?.closest("li");
  const at = links.findIndex((link) => link.parentElement === row);
  links[at + step]?.focus();
  event.preventDefault();
}
