import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef, useState } from "react";
import { api, dataOf } from "../../../api/client";
import type { components } from "../../../api/schema";
import { Refused } from "../../../parts/Refused";
import { useRole } from "../../../queries";
import { type Draft, MAIN } from "../draft/draft";
import { useRested } from "../draft/useRested";
import { useDraftChanges } from "../draft/useDraft";
import { WithDraft } from "../draft/WithDraft";
import { type Act, act } from "./act";
import { RuleRow, Then } from "./RuleRow";

type Gates = components["schemas"]["GatesView"];
type Gate = components["schemas"]["GateView"];
type Hits = components["schemas"]["RuleHits"];

/** A gate as a table: its rules in order, in words, and what each gives. */
export function GatesPage() {
  return <WithDraft title="Gates">{(draft) => <Table draft={draft} />}</WithDraft>;
}

function Table({ draft }: { draft: Draft }) {
  const search = useSearch({ from: "/inside/policy/gates" });
  const revision = useRested(useDraftChanges(draft));
  const gates = useQuery({
    queryKey: ["gates", draft.madeFrom, revision, search.gate],
    queryFn: async () => dataOf(await api.POST("/api/v1/policy/gates", { body: { ...draft.body(), gate: search.gate ?? null } })),
    placeholderData: keepPreviousData,
    gcTime: 1_000,
  });
  if (gates.error) return <p role="alert">{gates.error.message}</p>;
  if (!gates.data) return null;
  const { shown } = gates.data;
  return (
    <>
      <nav aria-label="Gates, in the order in which they are tried" className="mb-3 flex flex-wrap gap-x-5 gap-y-1">
        {gates.data.gates.map((gate) => (
          <Link
            key={gate.name}
            to="/policy/gates"
            search={{ gate: gate.name }}
            aria-current={gate.name === shown?.name ? "page" : undefined}
            className={gate.name === shown?.name ? "border-b-2 border-deep" : "text-soft hover:text-ink"}
          >
            {gate.name} <span className="text-sm text-soft">{gate.rules}</span>
          </Link>
        ))}
      </nav>
      {gates.data.gates.length === 0 && <p>The policy has no gate that can be read: every request is refused.</p>}
      {gates.data.gates.length > 0 && !shown && <p role="alert">There is no gate {search.gate} that can be read.</p>}
      {shown && <Rules draft={draft} gate={shown} told={gates.data.told} />}
    </>
  );
}

/** What was done to a rule last, and the text before it. */
interface Done {
  said: string;
  before: ReturnType<Draft["body"]>;
  revision: number;
}

function Rules({ draft, gate, told }: { draft: Draft; gate: Gate; told: Gates["told"] }) {
  const mayChange = useRole() === "engineer";
  const navigate = useNavigate();
  const [error, setError] = useState<Error | null>(null);
  const [done, setDone] = useState<Done | null>(null);
  const hits = useHits(gate.name);
  const { q } = useSearch({ from: "/inside/policy/gates" });
  const wanted = (q ?? "").toLowerCase();
  const shown = useMemo(
    () => gate.rules.flatMap((rule, index) => (wanted === "" || words(rule).includes(wanted) ? [index] : [])),
    [gate.rules, wanted],
  );
  const list = useRef<HTMLOListElement>(null);
  const lines = useWindowVirtualizer({
    count: shown.length,
    estimateSize: () => 76,
    overscan: 8,
    scrollMargin: list.current?.offsetTop ?? 0,
    getItemKey: (line) => gate.rules[shown[line] ?? 0]?.title ?? line,
  });
  const moved = useRef<string | null>(null);
  // Where a row goes, the focus goes, so that it can be moved on.
  useEffect(() => {
    const index = shown.findIndex((index) => gate.rules[index]?.title === moved.current);
    const row = list.current?.querySelector<HTMLElement>(`[data-index="${index}"] button[aria-haspopup=menu]`);
    row?.focus();
    if (row) moved.current = null;
  }, [gate.rules, shown]);
  const doIt = async (what: Act, said: string) => {
    setError(null);
    const before = draft.body();
    moved.current = what.do === "move" ? what.rule : null;
    try {
      await act(draft, what);
      setDone({ said, before, revision: draft.revision });
    } catch (refused) {
      setError(refused instanceof Error ? refused : new Error(String(refused)));
    }
  };
  return (
    <section aria-label={`Gate ${gate.name}`}>
      <p className="mb-2 font-serif text-[17px]">
        {gate.when ? `Takes a request when ${gate.when}.` : "Takes every request that no gate before it took."}
        {gate.observes && " It is watched: what is refused here may be given all the same."}{" "}
        <Link to="/policy" search={{ file: MAIN, line: gate.line }} className="font-sans text-sm text-deep underline">
          its text
        </Link>{" "}
        {mayChange && (
          <Link to="/policy/compose" search={{ gate: gate.name }} className="font-sans text-sm text-deep underline">
            compose a rule
          </Link>
        )}
      </p>
      <input
        type="search"
        aria-label={`Filter the rules of ${gate.name}`}
        placeholder="title, condition, grant"
        value={q ?? ""}
        onChange={(event) => {
          const search = { gate: gate.name, ...(event.target.value ? { q: event.target.value } : {}) };
          void navigate({ to: "/policy/gates", search, replace: true });
        }}
        className="w-80 rounded-sm border border-soft bg-sheet px-3 py-1"
      />
      <Refused error={error} />
      <p role="status" className="min-h-6 text-sm">
        {done && done.revision === draft.revision && (
          <>
            {done.said}{" "}
            <button
              type="button"
              className="cursor-pointer text-deep hover:underline"
              onClick={() => draft.replace(done.before, draft.madeFrom)}
            >
              Undo
            </button>
          </>
        )}
      </p>
      <div aria-hidden className="grid grid-cols-[2.5rem_1fr_17rem_9rem_2rem] gap-4 border-b border-ink py-1 text-sm text-soft">
        <span />
        <span>rule, and when it decides</span>
        <span>what follows</span>
        <span>decided</span>
        <span />
      </div>
      <ol ref={list} aria-label={`Rules of ${gate.name}`} className="relative" style={{ height: lines.getTotalSize() }}>
        {lines.getVirtualItems().map(({ index: line, start, key }) => {
          const index = shown[line] ?? 0;
          const rule = gate.rules[index];
          if (!rule) return null;
          return (
            <li
              key={key}
              ref={lines.measureElement}
              data-index={line}
              aria-posinset={index + 1}
              aria-setsize={gate.rules.length}
              className="absolute inset-x-0 border-b border-line"
              style={{ transform: `translateY(${start - lines.options.scrollMargin}px)` }}
            >
              <RuleRow
                gate={gate}
                index={index}
                told={told}
                hits={hits?.get(rule.title)}
                counted={hits !== undefined}
                act={mayChange ? doIt : undefined}
                open={() => void navigate({ to: "/policy", search: { file: MAIN, line: rule.line } })}
              />
            </li>
          );
        })}
      </ol>
      {gate.otherwise && (
        <div className="grid grid-cols-[2.5rem_1fr_17rem_9rem_2rem] gap-4 py-2">
          <span />
          <span className="font-serif">otherwise</span>
          <Then then={gate.otherwise} told={told} />
          <span className="text-sm text-soft">{hits && said(hits.get("otherwise"))}</span>
        </div>
      )}
    </section>
  );
}

/** What is looked through where somebody looks for a rule. */
function words({ title, when, then }: Gate["rules"][number]): string {
  return [title, when, then.what, ...then.grants, then.text ?? ""].join(" ").toLowerCase();
}

/** How often the rules of a gate of the active edition decided, by their titles. */
function useHits(gate: string): Map<string, Hits> | undefined {
  const hits = useQuery({
    queryKey: ["hits"],
    queryFn: async () => dataOf(await api.GET("/api/v1/policy/hits")).rules,
    refetchInterval: 60_000,
  });
  return useMemo(
    () => hits.data && new Map(hits.data.filter((one) => one.gate === gate).map((one) => [one.rule, one])),
    [hits.data, gate],
  );
}

/** How often something decided, in a few words. */
export function said(hits: Hits | undefined): string {
  if (!hits) return "not in the edition that decides";
  return hits.last ? `${hits.day} in a day, ${hits.week} in a week` : "never in 90 days";
}
