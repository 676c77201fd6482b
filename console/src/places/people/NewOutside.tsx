import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";
import { api } from "../../api/client";
import { FormEnd, WAY_OUT } from "../../parts/FormEnd";
import { OutsideFields } from "./OutsideFields";
import { askedOf, EMPTY } from "./outside";

/** A form for a directory or a service that is not asked yet. */
export function NewOutside() {
  const { kind } = useSearch({ from: "/inside/people/stores/new" });
  const [typed, setDraft] = useState(EMPTY);
  const draft = { ...typed, kind };
  const title = kind === "http" ? "Connect a service that tells facts" : "Connect a directory";
  const queries = useQueryClient();
  const navigate = useNavigate();
  const added = useMutation({
    mutationFn: async () => {
      const body = { name: draft.name.trim(), ...askedOf(draft) };
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
      <title>{`${title} · Regnant`}</title>
      <h1 className="mb-6 font-serif text-2xl">{title}</h1>
      <form onSubmit={submit}>
        <OutsideFields draft={draft} isNew change={setDraft} />
        <FormEnd act="Connect" busy={added.isPending} error={added.error}>
          <Link to="/people" search={{ show: "stores" }} className={WAY_OUT}>
            Cancel
          </Link>
        </FormEnd>
      </form>
    </div>
  );
}
