import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { api, dataOf } from "../../api/client";
import { Notice } from "../../parts/Notice";
import { Rename } from "../../parts/Rename";
import { useRole } from "../../queries";
import { type Group, holds } from "./people";

/** Groups that somebody is in or that the active policy names. */
export function Groups({ q }: { q: string }) {
  const queries = useQueryClient();
  const role = useRole();
  const groups = useQuery({
    queryKey: ["groups"],
    queryFn: async () => dataOf(await api.GET("/api/v1/groups")),
  });
  if (groups.error) return <Notice title="Groups cannot be shown" text={groups.error.message} />;
  if (!groups.data) return null;
  const shown = groups.data.groups.filter((group) => holds([group.name], q));
  if (shown.length === 0)
    return <p className="text-soft">{groups.data.groups.length === 0 ? "Nobody is in a group yet." : "None fits."}</p>;
  return (
    <ul aria-label="Groups" className="border-t border-line">
      {shown.map((group) => (
        <li key={group.name} className="grid grid-cols-[13rem_16rem_1fr_5rem] items-baseline gap-x-4 border-b border-line py-1.5">
          <span className="font-semibold">{group.name}</span>
          <Members group={group} />
          <span className="min-w-0 break-words text-soft">
            {group.named_by.length === 0 ? (
              "The active policy does not name it."
            ) : (
              <>
                named by {group.named_by.length === 1 ? "one comparison" : `${group.named_by.length} comparisons`}:{" "}
                {group.named_by.join("; ")}
              </>
            )}
          </span>
          {role === "engineer" && group.people + group.machines + group.devices > 0 && (
            <Rename
              what="group"
              name={group.name}
              named={group.named_by}
              follows="Everybody and everything in it is in the other then."
              rename={async (name, anyway) => {
                dataOf(
                  await api.PATCH("/api/v1/groups/{name}", { params: { path: { name: group.name } }, body: { name, anyway } }),
                );
                await queries.invalidateQueries();
              }}
            />
          )}
        </li>
      ))}
    </ul>
  );
}

function Members({ group }: { group: Group }) {
  const said = [
    group.people > 0 && (
      <Link key="people" to="/people" search={{ q: group.name }} className="text-deep hover:underline">
        {group.people === 1 ? "1 person" : `${group.people} people`}
      </Link>
    ),
    group.machines > 0 && (
      <Link key="machines" to="/people" search={{ show: "machines", q: group.name }} className="text-deep hover:underline">
        {group.machines === 1 ? "1 machine" : `${group.machines} machines`}
      </Link>
    ),
    group.devices > 0 && (
      <Link key="devices" to="/devices" search={{ group: group.name }} className="text-deep hover:underline">
        {group.devices === 1 ? "1 device" : `${group.devices} devices`}
      </Link>
    ),
  ].filter(Boolean);
  if (said.length === 0) return <span className="text-rust">nobody is in it</span>;
  return <span className="flex gap-3">{said}</span>;
}
