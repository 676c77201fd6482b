import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";
import { api, dataOf, etagOf } from "../../api/client";
import type { components } from "../../api/schema";
import { Confirm } from "../../parts/Confirm";
import { Facts } from "../../parts/Facts";
import { BOX, Check, ChoiceField, Field, TextField } from "../../parts/Field";
import { Notice } from "../../parts/Notice";
import { Past } from "../../parts/Past";
import { FormEnd } from "../../parts/FormEnd";
import { recordPath, timeField, timeOf } from "../../parts/records";
import { moment } from "../../parts/time";
import { MOST, useRole } from "../../queries";
import { ROLES } from "./Administrators";

type Administrator = components["schemas"]["AdministratorView"];

/** Somebody who may sign in: what they may do, their tokens, their past, and the way to change it. */
export function AdministratorPage() {
  const { name } = useParams({ from: "/inside/settings/administrators/$name" });
  const role = useRole();
  const [editing, setEditing] = useState(false);
  const found = useQuery({
    queryKey: ["administrator", name],
    queryFn: async () => {
      const answer = await api.GET("/api/v1/administrators/{name}", { params: { path: { name } } });
      return { one: dataOf(answer), seen: etagOf(answer) };
    },
  });
  const tokens = useQuery({
    queryKey: ["tokens", name],
    queryFn: async () => dataOf(await api.GET("/api/v1/tokens", { params: { query: { q: name, limit: MOST } } })),
  });
  if (found.error) return <Notice title="This administrator cannot be shown" text={found.error.message} />;
  if (!found.data) return null;
  const { one, seen } = found.data;
  const own = (tokens.data?.tokens ?? []).filter((token) => token.administrator === one.name);
  return (
    <article className="max-w-4xl">
      <title>{`${one.name} · Regnant`}</title>
      <p className="text-soft">
        <Link to="/settings" className="text-deep underline">
          Settings
        </Link>
      </p>
      <h1 className="mt-2 mb-6 font-serif text-2xl">{one.name}</h1>
      {editing ? (
        <Edit one={one} seen={seen} close={() => setEditing(false)} />
      ) : (
        <>
          <Facts
            rows={[
              ["role", one.role],
              ["state", one.disabled ? "kept out" : "may sign in"],
              ["until", one.expires && moment(one.expires)],
              ["second factor", one.second_factor ? "asked for at every sign-in" : "none"],
              ["tokens", own.map((token) => token.name || token.id).join(", ") || "none"],
            ]}
          />
          {role === "engineer" && (
            <p className="mt-6 flex items-baseline gap-6">
              <button
                type="button"
                onClick={() => setEditing(true)}
                className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper"
              >
                Change
              </button>
              <Remove one={one} seen={seen} tokens={own.length} />
            </p>
          )}
          <Past record={recordPath("administrator", one.name)} />
        </>
      )}
    </article>
  );
}

function Remove({ one, seen, tokens }: { one: Administrator; seen: string; tokens: number }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const removed = useMutation({
    mutationFn: async () => {
      const params = { path: { name: one.name }, header: { "If-Match": seen } };
      await api.DELETE("/api/v1/administrators/{name}", { params });
    },
    onSuccess: async () => {
      await navigate({ to: "/settings" });
      await queries.invalidateQueries();
    },
  });
  return (
    <Confirm
      action="Remove"
      title={`Remove ${one.name}?`}
      keep="Keep them"
      confirm="Remove them"
      error={removed.error}
      busy={removed.isPending}
      act={() => removed.mutate()}
    >
      Their sessions end at once, and {tokens === 1 ? "one token" : `${tokens} tokens`} with them. What they changed stays in the
      audit under their name.
    </Confirm>
  );
}

function Edit({ one, seen, close }: { one: Administrator; seen: string; close: () => void }) {
  const [role, setRole] = useState(one.role);
  const [disabled, setDisabled] = useState(one.disabled);
  const [expires, setExpires] = useState(timeField(one.expires));
  const [password, setPassword] = useState("");
  const [keepTokens, setKeepTokens] = useState(false);
  const queries = useQueryClient();
  const changed = useMutation({
    mutationFn: async () => {
      const params = { path: { name: one.name }, header: { "If-Match": seen } };
      const body = { role, disabled, expires: timeOf(expires), ...(password ? { password, keep_tokens: keepTokens } : {}) };
      dataOf(await api.PATCH("/api/v1/administrators/{name}", { params, body }));
    },
    onSuccess: async () => {
      await queries.invalidateQueries();
      close();
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    changed.mutate();
  };
  return (
    <form onSubmit={submit} className="grid max-w-2xl gap-4">
      <ChoiceField
        label="Role"
        help="Engineers change everything. The helpdesk reads the journal, bars devices and sets passwords of people. Auditors read everything but secrets."
        name="role"
        value={role}
        choices={ROLES}
        change={setRole}
      />
      <Check label="kept out" help="They cannot sign in, and their tokens do nothing." checked={disabled} change={setDisabled} />
      <Field label="Until" help="From when on they are kept out (UTC); left empty, never.">
        <input
          type="datetime-local"
          name="expires"
          value={expires}
          onChange={(event) => setExpires(event.target.value)}
          className={BOX}
        />
      </Field>
      <TextField
        label="New password"
        help="At least 10 characters; left empty, theirs stays."
        name="new-password"
        type="password"
        value={password}
        change={setPassword}
      />
      {password && (
        <Check
          label="Their tokens go on"
          help="Where this is not ticked, every token of theirs ends with the password that they had."
          checked={keepTokens}
          change={setKeepTokens}
        />
      )}
      <p className="text-soft">Whatever is changed, their sessions end.</p>
      <FormEnd act="Save" busy={changed.isPending} error={changed.error} cancel={close} />
    </form>
  );
}
