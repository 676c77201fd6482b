import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";
import { api, dataOf, etagOf } from "../../api/client";
import { Confirm } from "../../parts/Confirm";
import { Facts } from "../../parts/Facts";
import { LastDecision } from "../../parts/LastDecision";
import { Notice } from "../../parts/Notice";
import { Past } from "../../parts/Past";
import { Refused } from "../../parts/Refused";
import { recordPath } from "../../parts/records";
import { moment } from "../../parts/time";
import { useRole } from "../../queries";
import { AccountFields } from "./AccountFields";
import { draftOf, type Machine, machineChange, type Person, personChange, state } from "./people";
import { FormEnd } from "../../parts/FormEnd";

/** A person: what is known, what was decided last, and the way to change it. */
export function PersonPage() {
  const { store, name } = useParams({ from: "/inside/people/$store/$name" });
  const found = useQuery({
    queryKey: ["person", store, name],
    queryFn: async () => {
      const answer = await api.GET("/api/v1/people/{store}/{name}", { params: { path: { store, name } } });
      return { detail: dataOf(answer), seen: etagOf(answer) };
    },
  });
  if (found.error) return <Notice title="This person cannot be shown" text={found.error.message} />;
  if (!found.data) return null;
  const { detail, seen } = found.data;
  return (
    <AccountPage of="person" account={detail.person} seen={seen} named={detail.named_by}>
      <SetPassword person={detail.person} engineersOnly={detail.engineers_only} />
      <LastDecision title="Last decision" heard={detail.heard} q={detail.person.name} />
    </AccountPage>
  );
}

/** A machine, likewise. */
export function MachinePage() {
  const { store, name } = useParams({ from: "/inside/machines/$store/$name" });
  const found = useQuery({
    queryKey: ["machine", store, name],
    queryFn: async () => {
      const answer = await api.GET("/api/v1/machines/{store}/{name}", { params: { path: { store, name } } });
      return { detail: dataOf(answer), seen: etagOf(answer) };
    },
  });
  if (found.error) return <Notice title="This machine cannot be shown" text={found.error.message} />;
  if (!found.data) return null;
  const { detail, seen } = found.data;
  return (
    <AccountPage of="machine" account={detail.machine} seen={seen} named={detail.named_by}>
      <p className="mt-4">
        <Link to="/journal" search={{ q: detail.machine.name }} className="text-deep hover:underline">
          Its entries in the journal
        </Link>
      </p>
    </AccountPage>
  );
}

function AccountPage(props: {
  of: "person" | "machine";
  account: Person | Machine;
  seen: string;
  named: string[];
  children: React.ReactNode;
}) {
  const { of, account, seen, named } = props;
  const [editing, setEditing] = useState(false);
  const role = useRole();
  return (
    <article className="max-w-4xl">
      <title>{`${account.name} · Regnant`}</title>
      <p className="text-soft">
        <Link to="/people" search={of === "person" ? {} : { show: "machines" }} className="text-deep underline">
          {of === "person" ? "People" : "Machines"}
        </Link>{" "}
        · {account.store}
      </p>
      <h1 className="mt-2 mb-6 font-serif text-2xl">{account.name}</h1>
      {editing ? (
        <Edit of={of} account={account} seen={seen} close={() => setEditing(false)} />
      ) : (
        <>
          <Facts
            rows={[
              ["groups", account.groups.join(", ")],
              ["state", state(account)],
              ["expires", account.expires && moment(account.expires)],
              ["note", account.note],
              ["named by the policy", named.join("; ")],
            ]}
          />
          {role === "engineer" && (
            <p className="mt-6 flex gap-6">
              <button
                type="button"
                onClick={() => setEditing(true)}
                className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper"
              >
                Change
              </button>
              <Remove of={of} account={account} seen={seen} named={named} />
            </p>
          )}
          {props.children}
          <Past record={recordPath(of, account.store, account.name)} />
        </>
      )}
    </article>
  );
}

function SetPassword({ person, engineersOnly }: { person: Person; engineersOnly: string | null | undefined }) {
  const role = useRole();
  const [password, setPassword] = useState("");
  const set = useMutation({
    mutationFn: async () => {
      const path = { store: person.store, name: person.name };
      await api.PUT("/api/v1/people/{store}/{name}/password", { params: { path }, body: { password } });
    },
    onSuccess: () => setPassword(""),
  });
  if (role !== "helpdesk") return null;
  if (engineersOnly) {
    return <p className="mt-4 text-soft">Their password is for an engineer to set: {engineersOnly}.</p>;
  }
  const submit = (event: FormEvent) => {
    event.preventDefault();
    set.mutate();
  };
  return (
    <form onSubmit={submit} className="mt-4 flex flex-wrap items-center gap-3">
      <input
        type="password"
        autoComplete="new-password"
        aria-label="A new password"
        placeholder="A new password"
        value={password}
        onChange={(event) => setPassword(event.target.value)}
        className="w-64 rounded-sm border border-soft bg-sheet px-3 py-1"
      />
      <button
        type="submit"
        disabled={!password || set.isPending}
        className="cursor-pointer text-deep hover:underline disabled:text-soft"
      >
        Set it
      </button>
      {set.isSuccess && <span role="status">They sign in with it from now on.</span>}
      <Refused error={set.error} />
    </form>
  );
}

function Edit(props: { of: "person" | "machine"; account: Person | Machine; seen: string; close: () => void }) {
  const { of, account, close } = props;
  const [draft, setDraft] = useState(() => draftOf(account));
  const [began] = useState(props.seen);
  const queries = useQueryClient();
  const navigate = useNavigate();
  const changed = useMutation({
    mutationFn: async () => {
      const params = { path: { store: account.store, name: account.name }, header: { "If-Match": began } };
      return of === "person"
        ? dataOf(await api.PATCH("/api/v1/people/{store}/{name}", { params, body: personChange(draft) }))
        : dataOf(await api.PATCH("/api/v1/machines/{store}/{name}", { params, body: machineChange(draft) }));
    },
    onSuccess: async (now) => {
      await queries.invalidateQueries();
      close();
      await navigate({
        to: of === "person" ? "/people/$store/$name" : "/machines/$store/$name",
        params: { store: now.store, name: now.name },
        replace: true,
      });
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    changed.mutate();
  };
  return (
    <form onSubmit={submit} className="max-w-2xl">
      <AccountFields of={of} isNew={false} draft={draft} change={setDraft} />
      <FormEnd act="Save" busy={changed.isPending} error={changed.error} cancel={close} />
    </form>
  );
}

function Remove(props: { of: "person" | "machine"; account: Person | Machine; seen: string; named: string[] }) {
  const { of, account, seen, named } = props;
  const queries = useQueryClient();
  const navigate = useNavigate();
  const removed = useMutation({
    mutationFn: async () => {
      const params = { path: { store: account.store, name: account.name }, header: { "If-Match": seen } };
      if (of === "person") await api.DELETE("/api/v1/people/{store}/{name}", { params });
      else await api.DELETE("/api/v1/machines/{store}/{name}", { params });
    },
    onSuccess: async () => {
      await navigate({ to: "/people", search: of === "person" ? {} : { show: "machines" } });
      queries.removeQueries({ queryKey: [of, account.store, account.name] });
      await queries.invalidateQueries();
    },
  });
  return (
    <Confirm
      action="Remove"
      title={`Remove ${account.name}?`}
      keep={of === "person" ? "Keep them" : "Keep it"}
      confirm={of === "person" ? "Remove them" : "Remove it"}
      error={removed.error}
      busy={removed.isPending}
      forbidden={named.length > 0}
      act={() => removed.mutate()}
    >
      Nothing is proved by this account any more from the next request on. Sessions go on until they are asked again.
      {named.length > 0 && ` The active policy names it (${named.join("; ")}), so that it stays until that changes.`}
    </Confirm>
  );
}
