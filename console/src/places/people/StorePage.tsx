import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";
import { api, dataOf, etagOf } from "../../api/client";
import { Facts } from "../../parts/Facts";
import { BOX } from "../../parts/Field";
import { Mark } from "../../parts/Mark";
import { Notice } from "../../parts/Notice";
import { Past } from "../../parts/Past";
import { Refused } from "../../parts/Refused";
import { recordPath } from "../../parts/records";
import { useRole } from "../../queries";
import { OutsideFields } from "./OutsideFields";
import { askedOf, type Directory, draftOf, holds, lasted, type Service, type Store, shownFacts } from "./outside";
import { FormEnd } from "../../parts/FormEnd";

/** A store: what is in it, or how one outside is asked, whether it answers, and the way to it. */
export function StorePage() {
  const { name } = useParams({ from: "/inside/people/stores/$name" });
  const [editing, setEditing] = useState(false);
  const role = useRole();
  const found = useQuery({
    queryKey: ["store", name],
    queryFn: async () => {
      const answer = await api.GET("/api/v1/stores/{name}", { params: { path: { name } } });
      return { store: dataOf(answer), seen: etagOf(answer) };
    },
  });
  if (found.error) return <Notice title="This store cannot be shown" text={found.error.message} />;
  if (!found.data) return null;
  const { store, seen } = found.data;
  const { directory, http } = store;
  const isOutside = Boolean(directory ?? http);
  return (
    <article className="max-w-4xl">
      <title>{`${store.name} · Regnant`}</title>
      <p className="text-soft">
        <Link to="/people" search={{ show: "stores" }} className="text-deep underline">
          Stores
        </Link>
      </p>
      <h1 className="mt-2 mb-6 font-serif text-2xl">{store.name}</h1>
      {isOutside && editing ? (
        <Edit store={store} seen={seen} close={() => setEditing(false)} />
      ) : (
        <>
          <Facts
            rows={[
              ["is", holds(store)],
              ...(directory ? asked(directory) : []),
              ...(http ? askedOver(http) : []),
              ["in policy", inPolicy(store)],
            ]}
          />
          {isOutside && <Servers store={store} />}
          {isOutside && role === "engineer" && (
            <>
              <p className="mt-6">
                <button
                  type="button"
                  onClick={() => setEditing(true)}
                  className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper"
                >
                  Change
                </button>
              </p>
              <Test
                name={store.name}
                kinds={directory ? peopleAnd(directory) : ["machine", "person", "device"]}
                proves={Boolean(directory)}
              />
            </>
          )}
          <Past record={recordPath("store", store.name)} />
        </>
      )}
    </article>
  );
}

function inPolicy(store: Store): string {
  return store.in_policy ? "The active policy looks identities up in it." : "The active policy does not name it.";
}

/** How a directory is asked. */
function asked(directory: Directory): [string, string][] {
  return [
    ["trust", directory.trust || "the system's authorities"],
    ["searches as", directory.bind_as || "nobody"],
    ["base", directory.base ?? ""],
    ["domain", directory.domain ? `${directory.domain}, as ${directory.machine_account}` : ""],
    ["people", directory.person_filter ? `${directory.person_filter} by ${(directory.person_names ?? []).join(", ")}` : ""],
    [
      "devices",
      directory.device_filter ? `${directory.device_filter} by ${directory.device_name}, ${directory.device_notation}` : "",
    ],
    ["certificates", directory.certificates],
    ["disabled", directory.disabled_filter],
    ["passwords", [directory.nt_hash, directory.clear_password].filter(Boolean).join(", ")],
    ["machines", directory.machine_filter ? `${directory.machine_filter} by ${(directory.machine_names ?? []).join(", ")}` : ""],
    [
      "groups",
      `${directory.groups}${directory.nested || directory.groups === "token-groups" ? ", and groups of groups" : ""}, below ${directory.group_base || "the base"}`,
    ],
    ...told(directory),
  ];
}

/** How a service is asked. */
function askedOver(service: Service): [string, string][] {
  const secret = service.token_url
    ? `for a token from ${service.token_url}, as ${service.client}`
    : service.header && `in the header ${service.header}`;
  return [
    ["address", service.url],
    ["trust", service.trust || "the system's authorities"],
    ["secret", secret || "none"],
    ...told(service),
  ];
}

/** What every store outside has. */
function told(asked: Directory | Service): [string, string][] {
  return [
    ["facts", shownFacts(asked.facts).replaceAll("\n", ", ") || "none"],
    ["realms", asked.realms.join(", ") || "all"],
    ["time", `waited for ${asked.time_limit} s, kept for ${asked.keep} s`],
  ];
}

function peopleAnd(directory: Directory): string[] {
  const kinds: [string, string][] = [
    ["person", directory.person_filter],
    ["machine", directory.machine_filter],
    ["device", directory.device_filter],
  ];
  return kinds.filter(([, filter]) => filter).map(([kind]) => kind);
}

function Servers({ store }: { store: Store }) {
  return (
    <section className="mt-6">
      <h2 className="border-b border-ink pb-1 font-serif text-xl">Its servers</h2>
      <ul aria-label="Its servers">
        {store.servers.map((server) => (
          <li key={server.url} className="border-b border-line py-1.5">
            <span className="font-semibold">{server.url}</span>{" "}
            {server.down_for == null ? (
              <span className="text-soft">
                {server.asked === 0 ? "not asked yet" : `${server.asked} questions, ${server.failed} without an answer`}
              </span>
            ) : (
              <span className="text-rust">
                no answer for {lasted(server.down_for)}: {server.why}. {server.advice}
              </span>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Goes the way to a store, and shows each step. */
function Test({ name, kinds, proves }: { name: string; kinds: string[]; proves: boolean }) {
  const [who, setWho] = useState("");
  const [kind, setKind] = useState(kinds[0] ?? "person");
  const [password, setPassword] = useState("");
  const queries = useQueryClient();
  const test = useMutation({
    mutationFn: async () => {
      const named = who.trim() ? { [kind]: who.trim(), ...(proves && password ? { password } : {}) } : {};
      return dataOf(await api.POST("/api/v1/stores/{name}/test", { params: { path: { name } }, body: named }));
    },
    onSettled: () => {
      setPassword("");
      void queries.invalidateQueries({ queryKey: ["store", name] });
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    test.mutate();
  };
  return (
    <section className="mt-6">
      <h2 className="border-b border-ink pb-1 font-serif text-xl">The way to it</h2>
      <form onSubmit={submit} className="my-3 flex flex-wrap items-center gap-3">
        {kinds.length > 1 && (
          <select
            aria-label="What is looked for"
            value={kind}
            onChange={(event) => setKind(event.target.value)}
            className="rounded-sm border border-soft bg-sheet px-2 py-1"
          >
            {kinds.map((known) => (
              <option key={known}>{known}</option>
            ))}
          </select>
        )}
        <span className="w-60">
          <input
            aria-label="Who is looked for"
            placeholder="Somebody to look for"
            value={who}
            onChange={(event) => setWho(event.target.value)}
            className={BOX}
          />
        </span>
        {proves && (
          <span className="w-60">
            <input
              aria-label="Their password"
              type="password"
              autoComplete="off"
              placeholder="Their password, tried once"
              value={password}
              onChange={(event) => setPassword(event.target.value)}
              className={BOX}
            />
          </span>
        )}
        <button
          type="submit"
          disabled={test.isPending}
          className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper disabled:opacity-50"
        >
          {test.isPending ? "Going …" : "Go the way"}
        </button>
      </form>
      <Refused error={test.error} />
      {test.data && (
        <ol role="status" aria-label="Steps" className="border-t border-line">
          {test.data.steps.map((step) => (
            <li key={step.what} className="flex gap-3 border-b border-line py-1.5">
              <Mark of={step.passed ? "granted" : "refused"} />
              <span className="min-w-0">
                <span className="font-semibold">{step.what}</span> <span className="text-soft">({step.millis} ms)</span>
                <span className="block break-words">{step.saw}</span>
                {step.advice && <span className="block text-soft">{step.advice}</span>}
              </span>
            </li>
          ))}
        </ol>
      )}
    </section>
  );
}

function Edit(props: { store: Store; seen: string; close: () => void }) {
  const { store, seen } = props;
  const [draft, setDraft] = useState(() => draftOf(store));
  const queries = useQueryClient();
  const changed = useMutation({
    mutationFn: async () => {
      await api.PUT("/api/v1/stores/{name}", {
        params: { path: { name: store.name }, header: { "If-Match": seen } },
        body: askedOf(draft),
      });
    },
    onSuccess: async () => {
      await queries.invalidateQueries();
      props.close();
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    changed.mutate();
  };
  return (
    <form onSubmit={submit} className="max-w-2xl">
      <OutsideFields draft={draft} isNew={false} change={setDraft} />
      <FormEnd act="Save" busy={changed.isPending} error={changed.error} cancel={props.close} />
    </form>
  );
}
