import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { api, dataOf, etagOf } from "../../api/client";
import { CommonNamePage } from "../../parts/CommonNamePage";
import { Check } from "../../parts/Field";
import { Notice } from "../../parts/Notice";
import { Refused } from "../../parts/Refused";
import { useRole } from "../../queries";
import { Members } from "./Members";

/** A group: what people should know of it, who is in it, where the policy names it. */
export function GroupPage() {
  const { name } = useParams({ from: "/inside/people/groups/$name" });
  const navigate = useNavigate();
  const found = useQuery({
    queryKey: ["group", name],
    queryFn: async () => {
      const answer = await api.GET("/api/v1/groups/{name}", { params: { path: { name } } });
      return { group: dataOf(answer), seen: etagOf(answer) };
    },
  });
  if (found.error) return <Notice title="This group cannot be shown" text={found.error.message} />;
  if (!found.data) return null;
  const { group, seen } = found.data;
  const params = { path: { name: group.name }, header: { "If-Match": seen } };
  return (
    <CommonNamePage
      what="group"
      name={group.name}
      note={group.note}
      named={group.named_by}
      had={
        <>
          <Members group={group} />
          <Ordinary name={group.name} ordinary={group.ordinary} />
        </>
      }
      isHad={group.people + group.machines + group.devices > 0}
      follows="Everybody and everything in it is in the other then."
      back={
        <Link to="/people" search={{ show: "groups" }} className="text-deep underline">
          Groups
        </Link>
      }
      setNote={async (note) => {
        dataOf(await api.PUT("/api/v1/groups/{name}", { params, body: { note } }));
      }}
      rename={async (to, anyway) => {
        dataOf(await api.PATCH("/api/v1/groups/{name}", { params, body: { name: to, anyway } }));
      }}
      remove={async (anyway) => {
        dataOf(await api.DELETE("/api/v1/groups/{name}", { params: { ...params, query: { anyway } } }));
      }}
      goTo={(to) => navigate({ to: "/people/groups/$name", params: { name: to } })}
      leave={() => navigate({ to: "/people", search: { show: "groups" } })}
    />
  );
}

/** Whether whoever is in a group is ordinary. */
function Ordinary({ name, ordinary }: { name: string; ordinary: boolean }) {
  const queries = useQueryClient();
  const set = useMutation({
    mutationFn: async (ordinary: boolean) =>
      dataOf(await api.PATCH("/api/v1/groups/{name}", { params: { path: { name } }, body: { ordinary } })),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["group", name] }),
  });
  if (useRole() !== "engineer") return ordinary ? <p className="mt-4">Whoever is in it is ordinary.</p> : null;
  return (
    <div className="mt-2 -ml-40">
      <Check
        label="Whoever is in it is ordinary"
        help="The helpdesk may set their passwords though a rule could make an administrator of whoever comes so; never where a rule asks for them or their groups."
        checked={ordinary}
        change={(ordinary) => set.mutate(ordinary)}
      />
      <Refused error={set.error} />
    </div>
  );
}
