import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, dataOf } from "../../api/client";
import { BOX, Field, TextField } from "../../parts/Field";
import { Refused } from "../../parts/Refused";
import { moment } from "../../parts/time";
import type { Nas } from "./nases";

/** The shared secret of a NAS: shown to an engineer, changed with time for the equipment to follow. */
export function NasSecret({ nas }: { nas: Nas }) {
  const [changing, setChanging] = useState(false);
  const queries = useQueryClient();
  const params = { params: { path: { name: nas.name } } };
  const shown = useMutation({
    mutationFn: async () => dataOf(await api.POST("/api/v1/nases/{name}/secret", params)),
  });
  const ended = useMutation({
    mutationFn: async () => {
      await api.DELETE("/api/v1/nases/{name}/former-secret", params);
    },
    onSuccess: () => void queries.invalidateQueries(),
  });
  return (
    <section className="mt-6">
      <h2 className="flex items-baseline border-b border-ink pb-1 font-serif text-xl">
        Shared secret
        <span className="ml-auto flex gap-6 font-sans text-base">
          <button
            type="button"
            onClick={() => (shown.data ? shown.reset() : shown.mutate())}
            className="cursor-pointer text-deep hover:underline"
          >
            {shown.data ? "Hide it" : "Show it"}
          </button>
          <button type="button" onClick={() => setChanging(!changing)} className="cursor-pointer text-deep hover:underline">
            {changing ? "Close" : "Set another"}
          </button>
        </span>
      </h2>
      {shown.data && (
        <p className="py-2">
          <code className="bg-tint px-1 select-all">{shown.data.secret}</code>
          <span className="ml-3 text-soft">The audit tells that you saw it.</span>
        </p>
      )}
      {nas.secret_change && (
        <p className="my-2 border-l-2 border-deep bg-tint px-3 py-2">
          It was given another at {moment(nas.secret_change.since)}, and does not use it yet. The one before counts too{" "}
          {nas.secret_change.unsigned
            ? `until ${moment(nas.secret_change.until)}; of what it does not sign, until you say that it has the new one.`
            : `until ${moment(nas.secret_change.until)}, or until the first request under the new one.`}{" "}
          <button
            type="button"
            disabled={ended.isPending}
            onClick={() => ended.mutate()}
            className="cursor-pointer text-deep hover:underline"
          >
            It has the new one
          </button>
        </p>
      )}
      <Refused error={shown.error ?? ended.error} />
      {changing && <NewSecret name={nas.name} />}
    </section>
  );
}

function NewSecret({ name }: { name: string }) {
  const [secret, setSecret] = useState("");
  const [grace, setGrace] = useState("24");
  const queries = useQueryClient();
  const set = useMutation({
    mutationFn: async () =>
      dataOf(
        await api.PUT("/api/v1/nases/{name}/secret", {
          params: { path: { name } },
          body: { ...(secret ? { secret } : {}), grace_hours: Number(grace) },
        }),
      ),
    onSuccess: () => {
      setSecret("");
      void queries.invalidateQueries({ queryKey: ["nas", name] });
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    set.mutate();
  };
  return (
    <form aria-label="Another secret" onSubmit={submit} className="mt-3 grid max-w-2xl gap-4">
      <TextField
        label="New secret"
        help="At least 8 bytes, better 16. Left empty, one is made and shown once."
        name="secret"
        type="password"
        value={secret}
        change={setSecret}
      />
      <Field
        label="Both count for"
        help="Hours in which the one until now works too, so that nobody waits while you change the equipment. It ends at the first request under the new one; 0 is at once."
      >
        <input
          name="grace"
          type="number"
          min={0}
          max={720}
          value={grace}
          onChange={(event) => setGrace(event.target.value)}
          className={BOX}
        />
      </Field>
      <Refused error={set.error} />
      {set.data?.secret && (
        <p role="status" className="border-l-2 border-deep bg-tint px-3 py-2">
          The new secret, shown this once: <code className="select-all">{set.data.secret}</code>
        </p>
      )}
      <p className="pl-40">
        <button
          type="submit"
          disabled={set.isPending}
          className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper disabled:opacity-50"
        >
          Set it
        </button>
      </p>
    </form>
  );
}
