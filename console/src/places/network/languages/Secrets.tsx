import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, dataOf, over } from "../../../api/client";
import type { components } from "../../../api/schema";
import { Confirm } from "../../../parts/Confirm";
import { Notice } from "../../../parts/Notice";
import { Refused } from "../../../parts/Refused";
import { MOST, useRole } from "../../../queries";

type Secret = components["schemas"]["SecretView"];

/** Secrets that policies name and replies carry; nobody is shown what they are. */
export function Secrets() {
  const role = useRole();
  const queries = useQueryClient();
  const known = useQuery({
    queryKey: ["secrets"],
    queryFn: async () => dataOf(await api.GET("/api/v1/secrets", { params: { query: { limit: MOST } } })),
  });
  const removed = useMutation({
    mutationFn: async (secret: Secret) => {
      await api.DELETE("/api/v1/secrets/{name}", { params: { path: { name: secret.name }, header: over(secret) } });
    },
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["secrets"] }),
  });
  if (known.error) return <Notice title="Secrets cannot be shown" text={known.error.message} />;
  return (
    <>
      <p className="mb-3 text-soft">
        A grant sends one by its name: <code className="bg-tint px-1">send Attribute = secret &quot;NAME&quot;</code>. What it is
        is shown to nobody.
      </p>
      <ul aria-label="Secrets" className="border-t border-line">
        {known.data?.secrets.map((secret) => (
          <li key={secret.name} className="flex items-baseline justify-between border-b border-line py-1.5">
            <span className="font-semibold">{secret.name}</span>
            {role === "engineer" && (
              <Confirm
                action="Remove"
                title={`Remove the secret ${secret.name}?`}
                keep="Keep it"
                confirm="Remove it"
                error={removed.error}
                busy={removed.isPending}
                act={() => removed.mutate(secret)}
              >
                It is not to be had again. Where the active policy names it, it stays.
              </Confirm>
            )}
          </li>
        ))}
      </ul>
      {known.data?.secrets.length === 0 && <p className="py-2 text-soft">There is none yet.</p>}
      {role === "engineer" && <SetSecret known={known.data?.secrets ?? []} />}
    </>
  );
}

function SetSecret({ known }: { known: Secret[] }) {
  const [name, setName] = useState("");
  const [value, setValue] = useState("");
  const queries = useQueryClient();
  const set = useMutation({
    mutationFn: async () => {
      const params = { header: over(known.find((secret) => secret.name.toLowerCase() === name.trim().toLowerCase())) };
      await api.POST("/api/v1/secrets", { params, body: { name: name.trim(), value } });
    },
    onSuccess: () => {
      setName("");
      setValue("");
      void queries.invalidateQueries({ queryKey: ["secrets"] });
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    set.mutate();
  };
  const box = "rounded-sm border border-soft bg-sheet px-3 py-1";
  return (
    <>
      <form aria-label="A secret" onSubmit={submit} className="mt-4 flex flex-wrap items-center gap-3">
        <input
          aria-label="Name of a secret"
          placeholder="Name"
          value={name}
          onChange={(event) => setName(event.target.value)}
          className={`w-56 ${box}`}
        />
        <input
          aria-label="What it is"
          placeholder="What it is"
          type="password"
          autoComplete="new-password"
          value={value}
          onChange={(event) => setValue(event.target.value)}
          className={`w-72 ${box}`}
        />
        <button
          type="submit"
          disabled={!name.trim() || !value}
          className="cursor-pointer text-deep hover:underline disabled:text-soft"
        >
          Set
        </button>
      </form>
      <Refused error={set.error} />
    </>
  );
}
