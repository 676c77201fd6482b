import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { AlertDialog } from "radix-ui";
import { type FormEvent, useState } from "react";
import { api, CallError, dataOf } from "../../api/client";
import type { components } from "../../api/schema";
import { Notice } from "../../parts/Notice";
import { Row } from "../journal/Row";
import { draftOf, formOf, type Nas } from "./nases";
import { NasFields } from "./NasFields";

type Detail = components["schemas"]["NasDetail"];

/** A NAS: what it is, what is known of it, and the way to change it. */
export function NasPage() {
  const { name } = useParams({ from: "/inside/network/$name" });
  const [editing, setEditing] = useState(false);
  const found = useQuery({
    queryKey: ["nas", name],
    queryFn: async () => {
      const answer = await api.GET("/api/v1/nases/{name}", { params: { path: { name } } });
      return { detail: dataOf(answer), seen: answer.response.headers.get("etag") ?? "*" };
    },
  });
  if (found.error) return <Notice title="This NAS cannot be shown" text={found.error.message} />;
  if (!found.data) return null;
  const { detail, seen } = found.data;
  return (
    <article className="max-w-4xl">
      <title>{`${detail.nas.name} · Regnant`}</title>
      <p className="text-soft">
        <Link to="/network" className="text-deep">
          Network
        </Link>{" "}
        · {detail.nas.kind} at {detail.nas.site}
      </p>
      <h1 className="mt-2 mb-6 font-serif text-2xl">{detail.nas.name}</h1>
      {editing ? (
        // What was read when editing began is what the change is made to.
        <Edit nas={detail.nas} seen={seen} close={() => setEditing(false)} />
      ) : (
        <>
          <Facts detail={detail} />
          <p className="mt-6 flex gap-6">
            <button type="button" onClick={() => setEditing(true)} className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper">
              Change
            </button>
            <Remove detail={detail} seen={seen} />
          </p>
        </>
      )}
    </article>
  );
}

function Facts({ detail: { nas, heard, named_by, instead } }: { detail: Detail }) {
  const rows: [string, string][] = [
    ["addresses", nas.addresses.join(", ")],
    ["dialect", nas.dialect],
    ["tags", nas.tags.join(", ")],
    ["note", nas.note],
    [
      "Message-Authenticator",
      nas.require_message_authenticator
        ? "required"
        : "not required, so that its answers can be forged on the way: update it, then require it",
    ],
    ["Class at login", nas.class_at_login ? "yes" : ""],
    ["named by the policy", named_by.join("; ")],
    ["without it", instead.join("; ")],
  ];
  return (
    <>
      {nas.lacks.map((lack) => (
        <p key={lack} className="mb-2 border-l-2 border-rust bg-tint px-3 py-2">
          {lack}
        </p>
      ))}
      <dl className="grid grid-cols-[12rem_1fr] gap-x-4 border-t border-line">
        {rows
          .filter(([, value]) => value)
          .map(([label, value]) => (
            <div key={label} className="col-span-2 grid grid-cols-subgrid border-b border-line py-1.5">
              <dt className="text-soft">{label}</dt>
              <dd className="min-w-0 break-words">{value}</dd>
            </div>
          ))}
      </dl>
      <section className="mt-6">
        <h2 className="border-b border-ink pb-1 font-serif text-xl">Last heard</h2>
        {heard ? (
          <ol aria-label="Last heard">
            <Row entry={heard} />
          </ol>
        ) : (
          <p className="py-2 text-soft">Never.</p>
        )}
        <Link to="/journal" search={{ q: nas.name }} className="mt-2 inline-block text-deep hover:underline">
          All of its entries
        </Link>
      </section>
    </>
  );
}

function Edit({ nas, seen, close }: { nas: Nas; seen: string; close: () => void }) {
  const [draft, setDraft] = useState(() => draftOf(nas));
  const [began] = useState(seen);
  const queries = useQueryClient();
  const navigate = useNavigate();
  const changed = useMutation({
    mutationFn: async () =>
      dataOf(
        await api.PUT("/api/v1/nases/{name}", {
          params: { path: { name: nas.name }, header: { "If-Match": began } },
          body: formOf(draft),
        }),
      ),
    onSuccess: async (now) => {
      await queries.invalidateQueries();
      close();
      await navigate({ to: "/network/$name", params: { name: now.name }, replace: true });
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    changed.mutate();
  };
  return (
    <form onSubmit={submit} className="max-w-2xl">
      <NasFields draft={draft} isNew={false} change={setDraft} />
      {changed.error && <Refused error={changed.error} />}
      <p className="mt-6 flex gap-6">
        <button type="submit" disabled={changed.isPending} className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper">
          Save
        </button>
        <button type="button" onClick={close} className="cursor-pointer text-deep hover:underline">
          Cancel
        </button>
      </p>
    </form>
  );
}

function Remove({ detail, seen }: { detail: Detail; seen: string }) {
  const { nas, named_by, instead } = detail;
  const queries = useQueryClient();
  const navigate = useNavigate();
  const removed = useMutation({
    mutationFn: async () => {
      await api.DELETE("/api/v1/nases/{name}", {
        params: { path: { name: nas.name }, header: { "If-Match": seen } },
      });
    },
    onSuccess: async () => {
      await navigate({ to: "/network" });
      queries.removeQueries({ queryKey: ["nas", nas.name] });
      await queries.invalidateQueries();
    },
  });
  return (
    <AlertDialog.Root>
      <AlertDialog.Trigger className="cursor-pointer text-rust hover:underline">Remove</AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-30 bg-ink/40" />
        <AlertDialog.Content className="fixed top-1/4 left-1/2 z-40 w-[32rem] -translate-x-1/2 rounded-sm bg-paper p-6">
          <AlertDialog.Title className="font-serif text-xl">Remove {nas.name}?</AlertDialog.Title>
          <AlertDialog.Description className="my-3">
            {instead.length > 0
              ? `Its packets are then taken by others (${instead.join("; ")}), under their secrets.`
              : "Its packets are then not heard any more. Sessions that it has go on until it asks again."}{" "}
            {named_by.length > 0 && `The active policy names it (${named_by.join("; ")}), so that it stays until that changes.`}
          </AlertDialog.Description>
          {removed.error && <Refused error={removed.error} />}
          <p className="mt-4 flex justify-end gap-6">
            <AlertDialog.Cancel className="cursor-pointer text-deep hover:underline">Keep it</AlertDialog.Cancel>
            <button
              type="button"
              disabled={removed.isPending || named_by.length > 0}
              onClick={() => removed.mutate()}
              className="cursor-pointer rounded-sm bg-rust px-4 py-1 text-paper disabled:opacity-50"
            >
              Remove it
            </button>
          </p>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}

function Refused({ error }: { error: Error }) {
  const late = error instanceof CallError && error.status === 412;
  return (
    <p role="alert" className="mt-4 border-l-2 border-rust bg-tint px-3 py-2">
      {error.message}
      {late && " What you typed is still here: copy what you need, cancel, and begin again."}
    </p>
  );
}
