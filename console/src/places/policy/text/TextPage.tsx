import { Link, useLocation, useNavigate, useSearch } from "@tanstack/react-router";
import { useCallback, useEffect, useEffectEvent, useRef, useState } from "react";
import { api, dataOf } from "../../../api/client";
import { Refused } from "../../../parts/Refused";
import { Views } from "../../../parts/Views";
import { useRole } from "../../../queries";
import { type Draft, MAIN } from "../draft/draft";
import { useCheck } from "../draft/useCheck";
import { useDraftChanges } from "../draft/useDraft";
import { WithDraft } from "../draft/WithDraft";
import { act } from "../gates/act";
import { anchor, unquoted } from "../writ/names";
import type { Place } from "../writ/places";
import { Cases } from "./Cases";
import { PolicyEditor } from "./editor";
import { Files } from "./Files";
import { Findings } from "./Findings";
import { FindInAll } from "./FindInAll";
import { Keys } from "./Keys";
import { Outline } from "./Outline";
import { type Renamed, RenameName } from "./RenameName";
import { formatted } from "./format";
import { useOutline } from "./useOutline";

/** Shows a file, at a place where one is said. */
export type Show = (file: string, place?: Place & { length?: number }) => void;

const VIEWS = ["outline", "findings", "cases", "find"] as const;

/** The policy as text: to be read, and written by whoever may. */
export function TextPage() {
  return <WithDraft title="Policy">{(draft) => <Workshop draft={draft} />}</WithDraft>;
}

function Workshop({ draft }: { draft: Draft }) {
  const readOnly = useRole() !== "engineer";
  const search = useSearch({ from: "/inside/policy" });
  const navigate = useNavigate();
  const [path, setPath] = useState(MAIN);
  const [view, setView] = useState<(typeof VIEWS)[number]>("outline");
  const [renamed, setRenamed] = useState<Renamed | null>(null);
  const [told, setTold] = useState("");
  const place = useRef<HTMLDivElement>(null);
  const editor = useRef<PolicyEditor | null>(null);
  useDraftChanges(draft);

  const format = useCallback(async () => {
    try {
      const { revision } = draft;
      const { texts, unread } = await formatted(draft);
      if (revision !== draft.revision) return setTold("You went on writing: lay it out again.");
      editor.current?.rewrite(texts);
      setTold(unread.length > 0 ? `${unread.join(", ")} stays as it is: no words can be made of it.` : "Laid out.");
    } catch (refused) {
      setTold(refused instanceof Error ? refused.message : String(refused));
    }
  }, [draft]);

  useEffect(() => {
    if (!place.current) return;
    const around = {
      shown: setPath,
      rename: setRenamed,
      findInAll: () => setView("find"),
      format: () => void format(),
    };
    const made = new PolicyEditor(place.current, draft, around, readOnly);
    editor.current = made;
    return () => made.destroy();
  }, [draft, readOnly, format]);

  const check = useCheck(draft);
  useEffect(() => {
    if (check.data) editor.current?.checked(check.data.report, check.data.revision);
  }, [check.data]);

  const show: Show = (file, at) => editor.current?.show(file, at);
  const outline = useOutline(draft);
  const arrived = () => void navigate({ to: "/policy", search: {}, hash: (hash) => hash ?? "", replace: true });
  useArrival(search, outline.data, show, arrived);
  const kept = useKeptCase(
    draft,
    search.keep,
    (title) => void navigate({ to: "/policy", search: {}, hash: `case ${title}`, replace: true }),
  );

  const report = check.data?.report;
  const failed = report?.cases.filter((one) => one.failure).length ?? 0;
  const names = {
    outline: "Outline",
    findings: `Findings ${report?.diagnostics.length ?? ""}`,
    cases: failed > 0 ? `Cases ${failed} failed` : `Cases ${report?.cases.length || ""}`,
    find: "Find",
  };
  return (
    <div className="grid h-[calc(100vh-7.5rem)] min-h-96 grid-cols-[minmax(0,1fr)_19rem] gap-6">
      <div className="flex min-h-0 min-w-0 flex-col">
        <Files draft={draft} shown={path} show={show} readOnly={readOnly}>
          {!readOnly && (
            <>
              <Link to="/policy/compose" className="text-deep hover:underline">
                Compose
              </Link>
              <button type="button" className="cursor-pointer text-deep hover:underline" onClick={() => void format()}>
                Lay out
              </button>
            </>
          )}
          <Keys readOnly={readOnly} />
        </Files>
        <div ref={place} data-policy-text={path} className="min-h-0 flex-1 border border-line" />
        <Refused error={kept} />
        <p role="status" className="h-6 text-sm text-soft">
          {check.error ? `Not checked: ${check.error.message}` : check.isFetching ? "Being checked" : told}
        </p>
      </div>
      <aside aria-label="About the policy" className="flex min-h-0 flex-col">
        <Views
          views={VIEWS.map((one) => names[one])}
          shown={names[view]}
          show={(name) => setView(VIEWS.find((one) => names[one] === name) ?? "outline")}
        />
        <div className="mt-2 min-h-0 flex-1 overflow-y-auto text-sm">
          {view === "outline" && <Outline items={outline.data ?? []} show={show} />}
          {view === "findings" && report && (
            <Findings report={report} show={show} {...(readOnly ? {} : { mend: (one) => editor.current?.mend(one) })} />
          )}
          {view === "cases" && report && <Cases report={report} show={show} />}
          {view === "find" && <FindInAll draft={draft} show={show} />}
        </div>
      </aside>
      {renamed && (
        <RenameName
          draft={draft}
          renamed={renamed}
          close={() => setRenamed(null)}
          apply={(changes) => {
            editor.current?.apply(changes);
            setRenamed(null);
          }}
        />
      )}
    </div>
  );
}

/** A decision of the journal is kept as a case, once. */
function useKeptCase(draft: Draft, entry: string | undefined, done: (title: string) => void): Error | null {
  const [error, setError] = useState<Error | null>(null);
  const begun = useRef<string | undefined>(undefined);
  const finish = useEffectEvent(done);
  useEffect(() => {
    if (entry === undefined || begun.current === entry) return;
    begun.current = entry;
    const keep = async () => {
      const { case: text } = dataOf(await api.GET("/api/v1/journal/{id}/case", { params: { path: { id: entry } } }));
      await act(draft, { do: "put", text });
      const title = /case ("(?:\\.|[^"\\])*")/.exec(text)?.[1] ?? "";
      finish(unquoted(title));
    };
    keep().catch((refused) => setError(refused instanceof Error ? refused : new Error(String(refused))));
  }, [draft, entry]);
  return error;
}

/** A link to a line, or to something by its name, is followed once. */
function useArrival(
  search: { file?: string; line?: number },
  items: ReturnType<typeof useOutline>["data"],
  show: Show,
  arrived: () => void,
) {
  const target = decoded(useLocation({ select: (location) => location.hash }));
  const followed = useRef("");
  useEffect(() => {
    if (search.file === undefined && search.line === undefined) return;
    show(search.file ?? MAIN, { line: search.line ?? 1, column: 1 });
    arrived();
  }, [search, show, arrived]);
  useEffect(() => {
    if (!target || !items || followed.current === target) return;
    followed.current = target;
    const item = items.find((item) => anchor(item) === target);
    if (item) show(item.file, { line: item.line, column: 1 });
  }, [target, items, show]);
}

/** The words of an address; a title may have a percent sign of its own. */
function decoded(hash: string): string {
  try {
    return decodeURIComponent(hash);
  } catch {
    return hash;
  }
}
