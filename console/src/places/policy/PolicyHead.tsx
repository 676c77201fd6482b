import { Link } from "@tanstack/react-router";
import type { ReactNode } from "react";
import { clock } from "../../parts/time";
import type { Draft } from "./draft/draft";
import { useDraftChanges } from "./draft/useDraft";

const PAGES = [
  { to: "/policy", name: "Text" },
  { to: "/policy/gates", name: "Gates" },
  { to: "/policy/what-if", name: "What if" },
  { to: "/policy/changes", name: "Changes" },
  { to: "/policy/editions", name: "Editions" },
  { to: "/policy/begin", name: "Begin" },
] as const;

/** The head of every page of the policy: its pages, and what became of what was typed. */
export function PolicyHead({ draft, children }: { draft?: Draft | undefined; children?: ReactNode }) {
  return (
    <header className="mb-3 border-b border-ink pb-2">
      <div className="flex flex-wrap items-baseline gap-x-6 gap-y-1">
        <h1 className="font-serif text-2xl">Policy</h1>
        <nav aria-label="Pages of the policy" className="flex gap-4">
          {PAGES.map(({ to, name }) => (
            <Link
              key={to}
              to={to}
              activeOptions={{ exact: to === "/policy", includeSearch: false, includeHash: false }}
              className="text-soft hover:text-ink data-[status=active]:border-b-2 data-[status=active]:border-deep data-[status=active]:text-ink"
            >
              {name}
            </Link>
          ))}
        </nav>
        {draft && <State draft={draft} />}
        {children}
      </div>
      {draft && <Elsewhere draft={draft} />}
    </header>
  );
}

function State({ draft }: { draft: Draft }) {
  useDraftChanges(draft);
  const { kept, madeFrom, active } = draft;
  const on = madeFrom === active ? `edition ${madeFrom}` : `edition ${madeFrom}; ${active} is active`;
  const text = {
    same: () => `edition ${active}, which decides`,
    waiting: () => `draft on ${on} · not kept yet`,
    kept: () => `draft on ${on} · kept ${kept.state === "kept" ? clock(kept.at) : ""}`,
    unkept: () => `draft on ${on} · not kept: ${kept.state === "unkept" ? kept.why : ""}`,
    elsewhere: () => `draft on ${on} · written in two places`,
  }[kept.state]();
  return (
    <p role="status" className={`text-sm ${kept.state === "unkept" ? "text-rust" : "text-soft"}`}>
      {text}
    </p>
  );
}

/** Two windows wrote the draft: nothing is lost before somebody has chosen. */
function Elsewhere({ draft }: { draft: Draft }) {
  useDraftChanges(draft);
  if (draft.kept.state !== "elsewhere") return null;
  const { theirs } = draft.kept;
  const other = "version" in theirs ? `kept ${clock(theirs.changed_at)}` : `edition ${theirs.number}, which decides now`;
  const act = "cursor-pointer rounded-sm bg-deep px-3 py-0.5 text-paper";
  return (
    <div role="alert" className="mt-2 flex flex-wrap items-baseline gap-4 border-l-2 border-rust bg-tint px-3 py-2">
      <p>
        This draft was written in another window too: what is there ({other}) is another text than what is here. Both are still
        there.
      </p>
      <button type="button" className={act} onClick={() => void draft.keepMine()}>
        Keep the text of this window
      </button>
      <button type="button" className={act} onClick={() => draft.takeTheirs()}>
        Take the other
      </button>
    </div>
  );
}
