import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link, useSearch } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";
import { api, dataOf } from "../../api/client";
import { draftFor, formOf } from "./nases";
import { NasFields } from "./NasFields";
import { FormEnd, WAY_OUT } from "../../parts/FormEnd";

/** A form for a NAS that is not there yet. */
export function NewNas() {
  const search = useSearch({ from: "/inside/network/new" });
  const [draft, setDraft] = useState(() => draftFor(search));
  const queries = useQueryClient();
  const added = useMutation({
    mutationFn: async () => dataOf(await api.POST("/api/v1/nases", { body: formOf(draft) })),
    onSuccess: () => void queries.invalidateQueries(),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    added.mutate();
  };
  if (added.data) return <Added name={added.data.nas.name} secret={added.data.secret} lacks={added.data.nas.lacks} />;
  return (
    <div className="max-w-2xl">
      <title>Add a NAS · Regnant</title>
      <h1 className="mb-6 font-serif text-2xl">Add a NAS</h1>
      <form onSubmit={submit}>
        <NasFields draft={draft} isNew change={setDraft} />
        <FormEnd act="Add" busy={added.isPending} error={added.error}>
          <Link to="/network" className={WAY_OUT}>
            Cancel
          </Link>
        </FormEnd>
      </form>
    </div>
  );
}

function Added({ name, secret, lacks }: { name: string; secret: string | null | undefined; lacks: string[] }) {
  return (
    <section role="status" className="max-w-2xl">
      <title>{`${name} · Regnant`}</title>
      <h1 className="mb-4 font-serif text-2xl">{name} is heard from now on</h1>
      {secret && (
        <p className="mb-4">
          Its shared secret, shown this once:
          <code className="mt-1 block w-fit bg-tint px-3 py-2 select-all">{secret}</code>
        </p>
      )}
      {lacks.map((lack) => (
        <p key={lack} className="mb-2 border-l-2 border-rust bg-tint px-3 py-2">
          {lack}
        </p>
      ))}
      <p className="flex gap-6">
        <Link to="/network/$name" params={{ name }} className="text-deep hover:underline">
          Its page
        </Link>
        <Link to="/network" className="text-deep hover:underline">
          All equipment
        </Link>
      </p>
    </section>
  );
}
