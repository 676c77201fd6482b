import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";
import { api, dataOf } from "../../api/client";
import type { components } from "../../api/schema";
import { Confirm } from "../../parts/Confirm";
import { Exports } from "../../parts/Exports";
import { ChoiceField, TextField } from "../../parts/Field";
import { ImportFile } from "../../parts/ImportFile";
import { Refused } from "../../parts/Refused";
import { moment } from "../../parts/time";
import { MOST, useRole } from "../../queries";
import { FormEnd } from "../../parts/FormEnd";

type Administrator = components["schemas"]["AdministratorView"];

export const ROLES = ["engineer", "helpdesk", "auditor"] as const;

/** Who may sign in, and what they may do. */
export function Administrators() {
  const role = useRole();
  const [adding, setAdding] = useState(false);
  const [importing, setImporting] = useState(false);
  const known = useQuery({
    queryKey: ["administrators"],
    queryFn: async () => dataOf(await api.GET("/api/v1/administrators", { params: { query: { limit: MOST } } })),
  });
  return (
    <section className="mb-8">
      <h2 className="mb-2 flex items-baseline text-lg font-semibold">
        Administrators
        {role === "engineer" && (
          <button
            type="button"
            onClick={() => setAdding(!adding)}
            className="ml-auto cursor-pointer text-base font-normal text-deep hover:underline"
          >
            Add one
          </button>
        )}
        {role === "engineer" && (
          <button
            type="button"
            onClick={() => setImporting(!importing)}
            className="ml-5 cursor-pointer text-base font-normal text-deep hover:underline"
          >
            Import
          </button>
        )}
      </h2>
      <Refused error={known.error} />
      {importing && <ImportFile kind="administrators" done={() => setImporting(false)} />}
      {adding && <NewAdministrator close={() => setAdding(false)} />}
      <ul aria-label="Administrators" className="border-t border-line">
        {known.data?.administrators.map((one) => (
          <Line key={one.name} one={one} mayChange={role === "engineer"} />
        ))}
      </ul>
      <p className="mt-2 flex justify-end">
        <Exports
          name="administrators"
          fields={["name", "role", "disabled", "expires"]}
          all={() => Promise.resolve(known.data?.administrators ?? [])}
        />
      </p>
    </section>
  );
}

function Line({ one, mayChange }: { one: Administrator; mayChange: boolean }) {
  const queries = useQueryClient();
  const params = { path: { name: one.name } };
  const changed = useMutation({
    mutationFn: async (body: components["schemas"]["AdministratorPatch"]) =>
      dataOf(await api.PATCH("/api/v1/administrators/{name}", { params, body })),
    onSuccess: () => void queries.invalidateQueries(),
  });
  const removed = useMutation({
    mutationFn: async () => {
      await api.DELETE("/api/v1/administrators/{name}", { params });
    },
    onSuccess: () => void queries.invalidateQueries(),
  });
  const reset = useMutation({
    mutationFn: async () => {
      await api.DELETE("/api/v1/administrators/{name}/second-factor", { params });
    },
    onSuccess: () => void queries.invalidateQueries(),
  });
  const button = "cursor-pointer text-deep hover:underline";
  return (
    <li className="border-b border-line py-1.5">
      <div className="grid grid-cols-[12rem_9rem_1fr_auto] items-baseline gap-x-4">
        <Link to="/settings/administrators/$name" params={{ name: one.name }} className="font-semibold text-deep hover:underline">
          {one.name}
        </Link>
        {mayChange ? (
          <select
            aria-label={`Role of ${one.name}`}
            value={one.role}
            onChange={(event) => changed.mutate({ role: event.target.value })}
            className="rounded-sm border border-soft bg-sheet px-1"
          >
            {ROLES.map((role) => (
              <option key={role}>{role}</option>
            ))}
          </select>
        ) : (
          <span>{one.role}</span>
        )}
        <span className="text-soft">
          {[
            one.disabled && "kept out",
            one.second_factor && "with a second factor",
            one.expires && `until ${moment(one.expires)}`,
          ]
            .filter(Boolean)
            .join(", ")}
        </span>
        {mayChange && (
          <span className="flex gap-4">
            {one.second_factor && (
              <button type="button" onClick={() => reset.mutate()} className={button}>
                Take away the second factor
              </button>
            )}
            <button type="button" onClick={() => changed.mutate({ disabled: !one.disabled })} className={button}>
              {one.disabled ? "Let in again" : "Keep out"}
            </button>
            <Confirm
              action="Remove"
              title={`Remove ${one.name}?`}
              keep="Keep them"
              confirm="Remove them"
              error={removed.error}
              busy={removed.isPending}
              act={() => removed.mutate()}
            >
              Their sessions and tokens end at once. What they changed stays in the audit under their name.
            </Confirm>
          </span>
        )}
      </div>
      <Refused error={changed.error ?? reset.error} />
    </li>
  );
}

function NewAdministrator({ close }: { close: () => void }) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [role, setRole] = useState<string>("helpdesk");
  const queries = useQueryClient();
  const added = useMutation({
    mutationFn: async () => dataOf(await api.POST("/api/v1/administrators", { body: { name: name.trim(), password, role } })),
    onSuccess: async () => {
      await queries.invalidateQueries();
      close();
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    added.mutate();
  };
  return (
    <form onSubmit={submit} className="mb-4 grid max-w-2xl gap-4">
      <TextField label="Name" help="The name they sign in with." name="administrator" value={name} change={setName} />
      <TextField
        label="Password"
        help="At least 10 characters; they change it under Settings."
        name="administrator-password"
        type="password"
        value={password}
        change={setPassword}
      />
      <ChoiceField
        label="Role"
        help="Engineers change everything. The helpdesk reads the journal, bars devices and sets passwords of people. Auditors read everything but secrets."
        name="role"
        value={role}
        choices={ROLES}
        change={setRole}
      />
      <FormEnd act="Add" busy={added.isPending} error={added.error} cancel={close} />
    </form>
  );
}
