import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { api, dataOf } from "../../api/client";
import { Exports } from "../../parts/Exports";
import { NewCommonName } from "../../parts/NewCommonName";
import { Notice } from "../../parts/Notice";
import { Rows } from "../../parts/Rows";
import { MOST, useRole } from "../../queries";
import { Members } from "./Members";

/** Groups that somebody is in, that the active policy names, or that were added. */
export function Groups({ q }: { q: string }) {
  const role = useRole();
  const groups = useQuery({
    queryKey: ["groups", q],
    placeholderData: keepPreviousData,
    queryFn: async () => dataOf(await api.GET("/api/v1/groups", { params: { query: { q, limit: MOST } } })),
  });
  if (groups.error) return <Notice title="Groups cannot be shown" text={groups.error.message} />;
  if (!groups.data) return null;
  const shown = groups.data.groups;
  return (
    <>
      {shown.length === 0 && <p className="text-soft">{groups.data.all === 0 ? "Nobody is in a group yet." : "None fits."}</p>}
      <Rows label="Groups" rows={shown} keyOf={(group) => group.name}>
        {(group) => (
          <div className="grid h-full grid-cols-[13rem_16rem_1fr_1fr] items-center gap-x-4">
            <Link
              to="/people/groups/$name"
              params={{ name: group.name }}
              className="truncate font-semibold text-deep after:absolute after:inset-0"
            >
              {group.name}
            </Link>
            <Members group={group} />
            <span className="truncate text-soft" title={group.named_by.join("; ")}>
              {named(group.named_by.length)}
            </span>
            <span className="truncate text-soft">{group.note}</span>
          </div>
        )}
      </Rows>
      <p className="mt-2 flex justify-between text-sm text-soft">
        <span role="status">
          {shown.length} of {groups.data.all}
        </span>
        <Exports name="groups" fields={["name", "note"]} all={() => Promise.resolve(shown)} />
      </p>
      {role === "engineer" && <NewCommonName what="group" />}
    </>
  );
}

function named(times: number): string {
  if (times === 0) return "The active policy does not name it.";
  return times === 1 ? "named by one comparison" : `named by ${times} comparisons`;
}
