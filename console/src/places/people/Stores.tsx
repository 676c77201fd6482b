import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";
import { api, over } from "../../api/client";
import type { components } from "../../api/schema";
import { Confirm } from "../../parts/Confirm";
import { Notice } from "../../parts/Notice";
import { Refused } from "../../parts/Refused";
import { Rename } from "../../parts/Rename";
import { words } from "../../parts/records";
import { useRole } from "../../queries";
import { holds } from "./outside";
import { stores } from "./stores";

type Store = components["schemas"]["StoreView"];

/** Where identities are looked up, and what is in each. */
export function Stores({ q }: { q: string }) {
  const known = useQuery(stores);
  const role = useRole();
  const queries = useQueryClient();
  const removed = useMutation({
    mutationFn: async (store: Store) => {
      await api.DELETE("/api/v1/stores/{name}", { params: { path: { name: store.name }, header: over(store) } });
    },
    onSuccess: () => void queries.invalidateQueries(),
  });
  if (known.error) return <Notice title="Stores cannot be shown" text={known.error.message} />;
  if (!known.data) return null;
  const asked = words(q.toLowerCase());
  const shown = known.data.stores.filter((store) =>
    asked.every((word) => `${store.name} ${store.kind}`.toLowerCase().includes(word)),
  );
  return (
    <>
      <ul aria-label="Stores" className="border-t border-line">
        {shown.map((store) => (
          <li
            key={store.name}
            className="grid grid-cols-[13rem_1fr_1fr_auto_6rem] items-baseline gap-x-4 border-b border-line py-1.5"
          >
            <Link to="/people/stores/$name" params={{ name: store.name }} className="font-semibold text-deep hover:underline">
              {store.name}
            </Link>
            <span>{holds(store)}</span>
            <span className="text-soft">
              {store.in_policy ? "The active policy looks identities up in it." : "The active policy does not name it."}
            </span>
            {role === "engineer" && !store.in_policy && (
              <Rename
                what="store"
                name={store.name}
                named={[]}
                follows="All that is in it is in it under the new name."
                rename={async (name) => {
                  const params = { path: { name: store.name }, header: over(store) };
                  await api.PATCH("/api/v1/stores/{name}", { params, body: { name } });
                  await queries.invalidateQueries();
                }}
              />
            )}
            {role === "engineer" && (
              <Confirm
                action="Remove"
                title={`Remove store ${store.name}?`}
                keep="Keep it"
                confirm="Remove it"
                error={removed.error}
                busy={removed.isPending}
                forbidden={store.in_policy || store.people + store.machines + store.devices > 0}
                act={() => removed.mutate(store)}
              >
                {store.in_policy
                  ? "The active policy looks identities up in it, so that it stays until that changes."
                  : store.people + store.machines + store.devices > 0
                    ? "It holds something, so that it stays until that is removed."
                    : "It is empty, and no policy names it."}
              </Confirm>
            )}
          </li>
        ))}
      </ul>
      {role === "engineer" && (
        <>
          <NewStore />
          <p className="mt-4">
            <Link to="/people/stores/new" search={{ kind: "directory" }} className="text-deep hover:underline">
              Connect a directory
            </Link>{" "}
            or{" "}
            <Link to="/people/stores/new" search={{ kind: "http" }} className="text-deep hover:underline">
              a service that tells facts
            </Link>
          </p>
        </>
      )}
    </>
  );
}

function NewStore() {
  const [name, setName] = useState("");
  const [kind, setKind] = useState("people");
  const queries = useQueryClient();
  const added = useMutation({
    mutationFn: async () => {
      await api.POST("/api/v1/stores", { body: { name: name.trim(), kind } });
    },
    onSuccess: () => {
      setName("");
      void queries.invalidateQueries();
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    added.mutate();
  };
  return (
    <form onSubmit={submit} className="mt-4 flex items-center gap-3">
      <input
        aria-label="Name of a new store"
        placeholder="A new store"
        value={name}
        onChange={(event) => setName(event.target.value)}
        className="w-56 rounded-sm border border-soft bg-sheet px-3 py-1"
      />
      <select
        aria-label="What it holds"
        value={kind}
        onChange={(event) => setKind(event.target.value)}
        className="rounded-sm border border-soft bg-sheet px-2 py-1"
      >
        <option>people</option>
        <option>devices</option>
      </select>
      <button type="submit" disabled={!name.trim()} className="cursor-pointer text-deep hover:underline disabled:text-soft">
        Add
      </button>
      <Refused error={added.error} />
    </form>
  );
}
