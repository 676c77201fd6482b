import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";
import { api } from "../../api/client";
import { Refused } from "../../parts/Refused";
import { DirectoryFields } from "./DirectoryFields";
import { directoryOf, EMPTY } from "./directories";

/** A form for a directory that is not asked yet. */
export function NewDirectory() {
  const [draft, setDraft] = useState(EMPTY);
  const queries = useQueryClient();
  const navigate = useNavigate();
  const added = useMutation({
    mutationFn: async () => {
      const password = draft.bindPassword ? { bind_password: draft.bindPassword } : {};
      const body = { name: draft.name.trim(), kind: "directory", directory: directoryOf(draft), ...password };
      await api.POST("/api/v1/stores", { body });
    },
    onSuccess: async () => {
      await queries.invalidateQueries();
      await navigate({ to: "/people/stores/$name", params: { name: draft.name.trim() } });
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    added.mutate();
  };
  return (
    <div className="max-w-2xl">
      <title>Connect a directory · Regnant</title>
      <h1 className="mb-6 font-serif text-2xl">Connect a directory</h1>
      <form onSubmit={submit}>
        <DirectoryFields draft={draft} isNew change={setDraft} />
        <Refused error={added.error} />
        <p className="mt-6 flex gap-6">
          <button type="submit" disabled={added.isPending} className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper">
            Connect
          </button>
          <Link to="/people" search={{ show: "stores" }} className="py-1 text-deep hover:underline">
            Cancel
          </Link>
        </p>
      </form>
    </div>
  );
}
