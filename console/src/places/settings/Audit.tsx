import { keepPreviousData, useInfiniteQuery, useMutation } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useCallback } from "react";
import { api, dataOf } from "../../api/client";
import type { components } from "../../api/schema";
import { Mark } from "../../parts/Mark";
import { Notice } from "../../parts/Notice";
import { PlaceHead } from "../../parts/PlaceHead";
import { Rows } from "../../parts/Rows";
import { moment } from "../../parts/time";

type Change = components["schemas"]["ChangeView"];

/** Who changed what, when and from where, the last first. */
export function Audit() {
  const { q = "" } = useSearch({ from: "/inside/settings/audit" });
  const navigate = useNavigate();
  const pages = useInfiniteQuery({
    queryKey: ["audit", { q }],
    queryFn: async ({ pageParam }) =>
      dataOf(
        await api.GET("/api/v1/audit", {
          params: { query: { limit: 200, ...(q ? { q } : {}), ...(pageParam ? { before: pageParam } : {}) } },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: keepPreviousData,
  });
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = pages;
  const more = useCallback(() => {
    if (hasNextPage && !isFetchingNextPage) void fetchNextPage();
  }, [hasNextPage, isFetchingNextPage, fetchNextPage]);
  const verified = useMutation({ mutationFn: async () => dataOf(await api.GET("/api/v1/audit/verify")) });
  if (pages.error) return <Notice title="The audit cannot be shown" text={pages.error.message} />;
  const changes = pages.data?.pages.flatMap((page) => page.changes) ?? [];
  return (
    <>
      <title>Audit · Regnant</title>
      <p className="text-soft">
        <Link to="/settings" className="text-deep underline">
          Settings
        </Link>
      </p>
      <PlaceHead
        title="Audit"
        placeholder="Who, what, from where …"
        q={q}
        look={(text) => void navigate({ to: "/settings/audit", search: text ? { q: text } : {}, replace: true })}
      >
        <button type="button" onClick={() => verified.mutate()} className="ml-auto cursor-pointer text-deep hover:underline">
          Check that nothing was changed
        </button>
      </PlaceHead>
      {verified.data && (
        <>
          <Verified what="changes" one="Change" chain={verified.data} many={verified.data.changes} before="" />
          {(verified.data.seen.entries > 0 || verified.data.seen.broken) && (
            <Verified
              what="entries of what this node saw"
              one="Entry"
              chain={verified.data.seen}
              many={verified.data.seen.entries}
              before="s"
            />
          )}
        </>
      )}
      {pages.data && changes.length === 0 ? (
        <p className="text-soft">None fits.</p>
      ) : (
        <Rows
          label="Changes"
          rows={changes}
          keyOf={(change) => (change.revision != null ? String(change.revision) : `s${change.seen}`)}
          more={more}
        >
          {(change) => <Line change={change} />}
        </Rows>
      )}
    </>
  );
}

/** Whether a chain is what was written. */
function Verified(props: {
  what: string;
  one: string;
  chain: { chain: string; broken?: number | null; why?: string | null };
  many: number;
  before: string;
}) {
  const { what, one, chain, many, before } = props;
  return (
    <p role="status" className={`mb-3 border-l-2 px-3 py-2 ${chain.broken ? "border-rust" : "border-deep"} bg-tint`}>
      {chain.broken ? (
        `${one} ${before}${chain.broken} is not what was written: ${chain.why ?? ""}. What stands before it is whole.`
      ) : (
        <>
          {many === 1 ? `The one of the ${what} is as it was written` : `All ${many} ${what} are as they were written`}. Note this
          elsewhere, and compare it later:{" "}
          <code className="break-all select-all">
            {before}
            {many}:{chain.chain}
          </code>
        </>
      )}
    </p>
  );
}

function Line({ change }: { change: Change }) {
  return (
    <div className="grid h-full grid-cols-[10rem_8rem_13rem_11rem_1fr] items-center gap-x-4">
      {change.revision != null ? (
        <Link
          to="/settings/audit/$revision"
          params={{ revision: String(change.revision) }}
          className="text-soft after:absolute after:inset-0"
        >
          {moment(change.at)}
        </Link>
      ) : (
        <span className="text-soft">{moment(change.at)}</span>
      )}
      <span className="truncate italic">{change.by}</span>
      <span className="truncate text-soft">{change.from}</span>
      <span className="truncate">
        {!change.done && (
          <span className="-my-1 mr-1 inline-block align-middle">
            <Mark of="refused" />
          </span>
        )}
        {change.what}
      </span>
      <span className="truncate">{change.done ? change.subject : `${change.subject}: ${change.refused ?? ""}`}</span>
    </div>
  );
}
