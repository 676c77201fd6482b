import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";
import { api, dataOf } from "../../api/client";
import { Mark } from "../../parts/Mark";
import { clock } from "../../parts/time";
import { claimed, type Unheard } from "./nases";

/** How often it is looked whether somebody stays unheard. */
const AGAIN_MS = 3_000;

/** Who asks and is not heard, with what to do; nothing where everybody is heard. With a name, of that NAS alone. */
export function UnheardSenders({ nas }: { nas?: string }) {
  const unheard = useQuery({
    queryKey: ["unheard"],
    queryFn: async () => dataOf(await api.GET("/api/v1/unheard")),
    refetchInterval: AGAIN_MS,
  });
  const senders = unheard.data?.senders.filter((sender) => !nas || sender.nas === nas) ?? [];
  if (senders.length === 0) return null;
  return (
    <section className={nas ? "mt-6" : "mb-8"}>
      <h2 className="mb-2 text-lg font-semibold">Asking and not heard</h2>
      <ul aria-label="Unheard senders" className="border-t border-line">
        {senders.map((sender) => (
          <Sender key={sender.source} sender={sender} />
        ))}
      </ul>
    </section>
  );
}

function Sender({ sender }: { sender: Unheard }) {
  const [trying, setTrying] = useState(false);
  const search = {
    address: sender.source,
    ...(sender.claims.identifier ? { name: sender.claims.identifier } : {}),
    ...(sender.claims.kind ? { kind: sender.claims.kind } : {}),
  };
  return (
    <li className="border-b border-line py-3">
      <div className="flex items-baseline gap-3">
        <span className="self-center">
          <Mark of="unheard" />
        </span>
        <h3 className="font-semibold tabular-nums">
          {sender.source}
          {sender.nas && ` (${sender.nas})`}
        </h3>
        <span className="font-serif text-soft">{claimed(sender)}</span>
        <span className="ml-auto flex gap-4">
          {sender.can_try_secret && (
            <button type="button" onClick={() => setTrying(!trying)} className="cursor-pointer text-deep hover:underline">
              Try a secret
            </button>
          )}
          {!sender.nas && (
            <Link to="/network/new" search={search} className="text-deep hover:underline">
              Add this NAS
            </Link>
          )}
        </span>
      </div>
      {sender.causes.map((cause) => (
        <p key={cause.entry} className="mt-1 ml-7 font-serif text-[17px]">
          {cause.packets === 1 ? "1 packet" : `${cause.packets} packets`}, the last at {clock(cause.last)}: {cause.cause}.{" "}
          <span className="text-soft">{cause.advice}</span>
        </p>
      ))}
      {trying && <TrySecret source={sender.source} />}
    </li>
  );
}

function TrySecret({ source }: { source: string }) {
  const [secret, setSecret] = useState("");
  const tried = useMutation({
    mutationFn: async () =>
      dataOf(await api.POST("/api/v1/unheard/{id}/secret", { params: { path: { id: source } }, body: { secret } })),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    tried.mutate();
  };
  return (
    <form onSubmit={submit} className="mt-2 ml-7 flex items-center gap-3">
      <input
        type="password"
        autoComplete="off"
        aria-label={`A secret for ${source}`}
        placeholder="Shared secret"
        value={secret}
        onChange={(event) => setSecret(event.target.value)}
        className="w-64 rounded-sm border border-soft bg-sheet px-3 py-1"
      />
      <button type="submit" disabled={!secret} className="cursor-pointer text-deep hover:underline disabled:text-soft">
        Try
      </button>
      <span role="status">{tried.data?.says ?? tried.error?.message}</span>
    </form>
  );
}
