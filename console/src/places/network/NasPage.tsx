import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { type FormEvent, lazy, Suspense, useState } from "react";
import { api, dataOf, etagOf } from "../../api/client";
import type { components } from "../../api/schema";
import { Confirm } from "../../parts/Confirm";
import { Facts as Known } from "../../parts/Facts";
import { LastDecision } from "../../parts/LastDecision";
import { Notice } from "../../parts/Notice";
import { Past } from "../../parts/Past";
import { recordPath } from "../../parts/records";
import { FormEnd } from "../../parts/FormEnd";
import { useRole } from "../../queries";
import { draftOf, formOf, type Nas, signing } from "./nases";
import { NasFields } from "./NasFields";
import { NasSecret } from "./NasSecret";
import { UnheardSenders } from "./UnheardSenders";

const Hours = lazy(() => import("../../parts/Hours"));

type Detail = components["schemas"]["NasDetail"];

/** A NAS: what it is, what is known of it, and the way to change it. */
export function NasPage() {
  const { name } = useParams({ from: "/inside/network/$name" });
  const [editing, setEditing] = useState(false);
  const role = useRole();
  const found = useQuery({
    queryKey: ["nas", name],
    queryFn: async () => {
      const answer = await api.GET("/api/v1/nases/{name}", { params: { path: { name } } });
      return { detail: dataOf(answer), seen: etagOf(answer) };
    },
  });
  if (found.error) return <Notice title="This NAS cannot be shown" text={found.error.message} />;
  if (!found.data) return null;
  const { detail, seen } = found.data;
  return (
    <article className="max-w-4xl">
      <title>{`${detail.nas.name} · Regnant`}</title>
      <p className="text-soft">
        <Link to="/network" className="text-deep underline">
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
          <p className={role === "engineer" ? "mt-6 flex gap-6" : "hidden"}>
            <button
              type="button"
              onClick={() => setEditing(true)}
              className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper"
            >
              Change
            </button>
            <Remove detail={detail} seen={seen} />
          </p>
          <UnheardSenders nas={detail.nas.name} />
          {role === "engineer" && <NasSecret nas={detail.nas} />}
          <section aria-label="Decisions of the last day" className="mt-6 min-h-52">
            <Suspense fallback={<p className="text-soft">Drawing …</p>}>
              <Hours hours={detail.hours} />
            </Suspense>
          </section>
          <LastDecision title="Last heard" heard={detail.heard} q={detail.nas.name} />
          <Past record={recordPath("nas", detail.nas.name)} />
        </>
      )}
    </article>
  );
}

function Facts({ detail: { nas, named_by, instead } }: { detail: Detail }) {
  const rows: [string, string][] = [
    ["addresses", nas.addresses.join(", ")],
    ["dialect", nas.dialect],
    ["tags", nas.tags.join(", ")],
    ["note", nas.note],
    ["Message-Authenticator", signing(nas)],
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
      <Known rows={rows} />
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
      <FormEnd act="Save" busy={changed.isPending} error={changed.error} cancel={close} />
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
    <Confirm
      action="Remove"
      title={`Remove ${nas.name}?`}
      keep="Keep it"
      confirm="Remove it"
      error={removed.error}
      busy={removed.isPending}
      forbidden={named_by.length > 0}
      act={() => removed.mutate()}
    >
      {instead.length > 0
        ? `Its packets are then taken by others (${instead.join("; ")}), under their secrets.`
        : "Its packets are then not heard any more. Sessions that it has go on until it asks again."}{" "}
      {named_by.length > 0 && `The active policy names it (${named_by.join("; ")}), so that it stays until that changes.`}
    </Confirm>
  );
}
