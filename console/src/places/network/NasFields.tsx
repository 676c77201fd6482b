import { useQuery } from "@tanstack/react-query";
import { api, dataOf } from "../../api/client";
import { BOX, Check, Field } from "../../parts/Field";
import { type Draft, KINDS } from "./nases";
import { MOST } from "../../queries";

/** The fields of a NAS, with help at each. */
export function NasFields(props: { draft: Draft; isNew: boolean; change: (draft: Draft) => void }) {
  const { draft, change } = props;
  const dialects = useQuery({
    queryKey: ["dialects"],
    queryFn: async () => dataOf(await api.GET("/api/v1/dialects", { params: { query: { limit: MOST } } })),
  });
  const names = dialects.data?.dialects.map((dialect) => dialect.name) ?? [draft.dialect];
  const text = (key: "name" | "site" | "tags" | "note") => (
    <input name={key} value={draft[key]} onChange={(event) => change({ ...draft, [key]: event.target.value })} className={BOX} />
  );
  return (
    <div className="grid gap-4">
      <Field label="Name" help="As policies and the journal call it.">
        {text("name")}
      </Field>
      <Field
        label="Addresses"
        help="Where its packets come from, one to a line; a block such as 10.44.0.0/16 is many. The most specific counts."
      >
        <textarea
          name="addresses"
          rows={2}
          value={draft.addresses}
          onChange={(event) => change({ ...draft, addresses: event.target.value })}
          className={`${BOX} tabular-nums`}
        />
      </Field>
      <Field label="Kind" help="What it is: nas.kind in policies.">
        <select
          name="kind"
          value={draft.kind}
          onChange={(event) => change({ ...draft, kind: event.target.value })}
          className={BOX}
        >
          {KINDS.map((kind) => (
            <option key={kind}>{kind}</option>
          ))}
        </select>
      </Field>
      <Field label="Site" help="Where it stands: nas.site in policies.">
        {text("site")}
      </Field>
      <Field label="Dialect" help="How its make is told what access consists of.">
        <select
          name="dialect"
          value={draft.dialect}
          onChange={(event) => change({ ...draft, dialect: event.target.value })}
          className={BOX}
        >
          {names.map((name) => (
            <option key={name}>{name}</option>
          ))}
        </select>
      </Field>
      <Field
        label="Shared secret"
        help={
          props.isNew ? "At least 8 bytes, better 16. Left empty, one is made and shown once." : "Left empty, it keeps its own."
        }
      >
        <input
          name="secret"
          type="password"
          autoComplete="new-password"
          value={draft.secret}
          onChange={(event) => change({ ...draft, secret: event.target.value })}
          className={BOX}
        />
      </Field>
      <Field label="Tags" help="Words to find it by.">
        {text("tags")}
      </Field>
      <Field label="Note" help="What people should know of it.">
        {text("note")}
      </Field>
      <Check
        label="Its requests must carry Message-Authenticator"
        help="Without, its answers can be forged on the way. Only for equipment that cannot."
        checked={draft.signed}
        change={(signed) => change({ ...draft, signed })}
      />
      <Check
        label="Logins of administrators get a Class of ours too"
        help="By it accounting finds their decision. Some makes read a role from Class."
        checked={draft.classAtLogin}
        change={(classAtLogin) => change({ ...draft, classAtLogin })}
      />
    </div>
  );
}
