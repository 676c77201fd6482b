import { useQuery } from "@tanstack/react-query";
import { api, dataOf } from "../../../api/client";
import { ChangeList } from "../Difference";
import type { Draft } from "../draft/draft";

/** Another edition was activated since the draft was begun: what it changed, and the draft put on top of it. */
export function Others({ draft }: { draft: Draft }) {
  const others = useQuery({
    queryKey: ["others", draft.madeFrom, draft.active, draft.revision],
    queryFn: async () => {
      // It is put together of what the service keeps.
      if (!(await draft.keep())) throw new Error("Your draft is not kept yet: see above.");
      return dataOf(await api.GET("/api/v1/policy/draft/others"));
    },
    gcTime: 0,
  });
  if (others.error) return <p role="alert">{others.error.message}</p>;
  if (!others.data) return null;
  const { changes, both, disputed, active, source, included } = others.data;
  return (
    <section aria-label="What others changed" className="mb-6 border-l-2 border-ochre bg-tint px-4 py-3">
      <h2 className="font-serif text-xl">Others changed the policy since you began</h2>
      <p className="text-soft">
        Your draft is made from edition {draft.madeFrom}; edition {active} decides now. Its changes:
      </p>
      <ChangeList changes={changes} />
      {both.length > 0 && (
        <>
          <h3 className="mt-3 font-semibold">You changed of these too</h3>
          <ChangeList changes={both} />
        </>
      )}
      {disputed.length > 0 && (
        <>
          <h3 className="mt-3 font-semibold">Lines that both changed</h3>
          {disputed.map((one) => (
            <div key={`${one.file} ${one.line}`} className="mt-1">
              <p>
                {one.file}, line {one.line}:{" "}
                {one.both
                  ? `both added lines here, and both are kept; edition ${active}'s come first`
                  : `yours are kept; edition ${active} has`}
              </p>
              <pre className="overflow-x-auto font-mono text-xs">{one.theirs || "(nothing)"}</pre>
            </div>
          ))}
        </>
      )}
      <button
        type="button"
        className="mt-3 cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper"
        onClick={() => draft.replace({ source, included }, active)}
      >
        Put the draft on top of edition {active}
      </button>
    </section>
  );
}
