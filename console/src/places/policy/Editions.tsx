import { useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { api, dataOf } from "../../api/client";
import { Notice } from "../../parts/Notice";
import { Rows } from "../../parts/Rows";
import { clock, day } from "../../parts/time";
import { PolicyHead } from "./PolicyHead";

/** Every edition of the policy: who made it, when, why and from which. */
export function Editions() {
  const pages = useInfiniteQuery({
    queryKey: ["editions"],
    queryFn: async ({ pageParam }) =>
      dataOf(await api.GET("/api/v1/policy/editions", { params: { query: pageParam ? { below: pageParam } : {} } })),
    initialPageParam: 0,
    getNextPageParam: (page) => page.more_below ?? undefined,
  });
  if (pages.error) return <Notice title="The editions cannot be shown" text={pages.error.message} />;
  const rows = pages.data?.pages.flatMap((page) => page.editions) ?? [];
  const more = pages.hasNextPage && !pages.isFetchingNextPage ? () => void pages.fetchNextPage() : undefined;
  return (
    <>
      <title>Editions · Regnant</title>
      <PolicyHead />
      <Rows label="Editions" rows={rows} keyOf={(row) => String(row.number)} {...(more ? { more } : {})}>
        {(row) => (
          <div className="grid h-full grid-cols-[6rem_17rem_8rem_1fr_4rem] items-center gap-4 px-2">
            <Link to="/policy/editions/$number" params={{ number: String(row.number) }} className="text-deep hover:underline">
              edition {row.number}
            </Link>
            <span className="truncate tabular-nums">
              {day(row.created_at)}, {clock(row.created_at)}
            </span>
            <span className="truncate">{row.created_by}</span>
            <span className="truncate font-serif">{row.note}</span>
            <span className={row.state === "active" ? "font-semibold" : "text-soft"}>{row.state}</span>
          </div>
        )}
      </Rows>
    </>
  );
}
