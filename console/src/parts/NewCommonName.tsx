import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api } from "../api/client";
import { Refused } from "./Refused";

/** Adds a group or a site by its name, so that it stays where nothing has it. */
export function NewCommonName({ what }: { what: "group" | "site" }) {
  const [name, setName] = useState("");
  const [note, setNote] = useState("");
  const queries = useQueryClient();
  const added = useMutation({
    mutationFn: async () => {
      const body = { name: name.trim(), note: note.trim() };
      await (what === "group" ? api.POST("/api/v1/groups", { body }) : api.POST("/api/v1/sites", { body }));
    },
    onSuccess: () => {
      setName("");
      setNote("");
      void queries.invalidateQueries();
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    added.mutate();
  };
  const box = "rounded-sm border border-soft bg-sheet px-3 py-1";
  return (
    <form onSubmit={submit} className="mt-4 flex items-center gap-3">
      <input
        aria-label={`Name of a new ${what}`}
        placeholder={`A new ${what}`}
        value={name}
        onChange={(event) => setName(event.target.value)}
        className={`w-56 ${box}`}
      />
      <input
        aria-label="What people should know"
        placeholder="What people should know"
        value={note}
        onChange={(event) => setNote(event.target.value)}
        className={`w-96 ${box}`}
      />
      <button type="submit" disabled={!name.trim()} className="cursor-pointer text-deep hover:underline disabled:text-soft">
        Add
      </button>
      <Refused error={added.error} />
    </form>
  );
}
